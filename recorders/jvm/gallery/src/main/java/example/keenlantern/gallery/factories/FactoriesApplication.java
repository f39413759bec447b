package example.keenlantern.gallery.factories;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.beans.factory.FactoryBean;
import org.springframework.beans.factory.config.BeanPostProcessor;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Profile;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** A factory bean, a post-processor that replaces what was built, and static definitions. */
@SpringBootApplication(proxyBeanMethods = false)
public class FactoriesApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(FactoriesApplication.class);
        else running.web(FactoriesApplication.class, context -> Running.get(context, "/clapper", 3));
    }

    @Bean
    static Polisher polisher() {
        return new Polisher();
    }

    @Bean
    ClapperFactory clapper() {
        return new ClapperFactory();
    }

    @Bean
    static Headstock headstock() {
        return new Headstock();
    }

    @Bean
    @Profile("mistaken")
    Wheelwright wheelwright() {
        throw new IllegalStateException("no oak");
    }
}

class Clapper {
    Clapper() {
        Counts.made(this);
    }
}

class ClapperFactory implements FactoryBean<Clapper> {
    @Override
    public Clapper getObject() {
        return new Clapper();
    }

    @Override
    public Class<?> getObjectType() {
        return Clapper.class;
    }
}

class Headstock {
    Headstock() {
        Counts.made(this);
    }
}

class Wheelwright {}

interface Finish {
    String shine();
}

@Component
class Rough implements Finish {
    Rough() {
        Counts.made(this);
    }

    @Override
    public String shine() {
        return "dull";
    }
}

class Polished implements Finish {
    private final Finish inner;

    Polished(Finish inner) {
        this.inner = inner;
    }

    @Override
    public String shine() {
        return inner.shine() + ", polished";
    }
}

class Polisher implements BeanPostProcessor {
    @Override
    public Object postProcessAfterInitialization(Object bean, String name) {
        return bean instanceof Rough rough ? new Polished(rough) : bean;
    }
}

@RestController
class Fitting {
    private final Finish finish;

    Fitting(Clapper clapper, Headstock headstock, Finish finish) {
        this.finish = finish;
        Counts.made(this);
    }

    @GetMapping("/clapper")
    String clapper() {
        return finish.shine();
    }
}
