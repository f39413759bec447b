package example.keenlantern.gallery.contexts;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import example.keenlantern.record.spring.KeenLanternInitializer;
import jakarta.annotation.PreDestroy;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.annotation.AnnotationConfigApplicationContext;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.ComponentScan;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.FilterType;
import org.springframework.stereotype.Component;

/** A context inside of the application's, with beans of its own, made in code. */
@SpringBootApplication(proxyBeanMethods = false)
@ComponentScan(excludeFilters = @ComponentScan.Filter(type = FilterType.ASSIGNABLE_TYPE, classes = Shed.class))
public class ContextsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.plain(ContextsApplication.class, context -> {
            for (int n = 0; n < 2; n++) shed(context, running.mistaken());
        });
    }

    private static void shed(ConfigurableApplicationContext around, boolean mistaken) {
        AnnotationConfigApplicationContext shed = new AnnotationConfigApplicationContext();
        shed.setParent(around);
        new KeenLanternInitializer().initialize(shed); // what is made in code needs this line
        shed.register(Shed.class);
        shed.refresh();
        shed.getBean(Loam.class);
        if (!mistaken) shed.close();
    }
}

@Component
class Stores {
    Stores() {
        Counts.made(this);
    }
}

@Configuration(proxyBeanMethods = false)
class Shed {
    @Bean
    Loam loam(Stores stores) {
        return new Loam(stores);
    }
}

class Loam {
    Loam(Stores stores) {
        Counts.made(this);
    }

    @PreDestroy
    void end() {
        Counts.disposed(this);
    }
}
