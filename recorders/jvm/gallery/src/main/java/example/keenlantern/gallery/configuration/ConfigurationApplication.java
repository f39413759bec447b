package example.keenlantern.gallery.configuration;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.boot.autoconfigure.condition.ConditionalOnMissingBean;
import org.springframework.boot.autoconfigure.condition.ConditionalOnProperty;
import org.springframework.boot.context.properties.ConfigurationProperties;
import org.springframework.boot.context.properties.EnableConfigurationProperties;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Profile;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Full and lite classes of definitions, profiles, conditions and properties. */
@SpringBootApplication
@EnableConfigurationProperties(Alloy.class)
public class ConfigurationApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(ConfigurationApplication.class, "foundry.tin=22");
        else
            running.web(
                    ConfigurationApplication.class,
                    context -> Running.get(context, "/alloy", 3),
                    "foundry.tin=22",
                    "foundry.furnace=true");
    }

    // A call of one definition by another is answered by the container.
    @Bean
    Scale scale(Alloy alloy) {
        return new Scale(alloy);
    }

    @Bean
    Assay assay() {
        return new Assay(scale(null));
    }

    @Bean
    Sampler sampler() {
        return new Sampler(scale(null));
    }

    // A class whose methods are called as they are.
    @Configuration(proxyBeanMethods = false)
    static class Lite {
        @Bean
        @ConditionalOnMissingBean
        Tally tally(Scale scale) {
            return new Tally(scale);
        }

        @Bean
        @Profile("!mistaken")
        @ConditionalOnProperty("foundry.furnace")
        Kiln kiln() {
            return new Kiln();
        }
    }
}

@ConfigurationProperties("foundry")
record Alloy(int tin, boolean furnace) {}

class Scale {
    Scale(Alloy alloy) {
        Counts.made(this);
    }
}

class Assay {
    Assay(Scale scale) {
        Counts.made(this);
    }
}

class Sampler {
    Sampler(Scale scale) {
        Counts.made(this);
    }
}

class Tally {
    Tally(Scale scale) {
        Counts.made(this);
    }
}

class Kiln {
    Kiln() {
        Counts.made(this);
    }
}

@RestController
class Alloying {
    Alloying(Assay assay, Sampler sampler, Tally tally, Kiln kiln) {
        Counts.made(this);
    }

    @GetMapping("/alloy")
    int alloy() {
        return 78;
    }
}
