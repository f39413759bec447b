package example.keenlantern.gallery.conversations;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.config.CustomScopeConfigurer;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.context.support.SimpleThreadScope;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** A scope of threads, which the framework has and does not register by itself: nothing shows its end, and requests share it. */
@SpringBootApplication(proxyBeanMethods = false)
public class ConversationsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(
                ConversationsApplication.class,
                context -> Running.get(context, "/ring", 6),
                "server.tomcat.threads.max=2");
    }

    @Bean
    static CustomScopeConfigurer threads() {
        CustomScopeConfigurer configurer = new CustomScopeConfigurer();
        configurer.addScope("thread", new SimpleThreadScope());
        return configurer;
    }

    @Bean
    @Lazy
    @Profile("mistaken")
    Carillon carillon(Hammer hammer) {
        return new Carillon(hammer);
    }
}

@Component
@Scope("thread")
class Hammer {
    Hammer() {
        Counts.made(this);
    }

    int strike() {
        return 1;
    }
}

class Carillon {
    private final Hammer hammer;

    Carillon(Hammer hammer) {
        this.hammer = hammer;
        Counts.made(this);
    }

    int strike() {
        return hammer.strike();
    }
}

@RestController
class Ringing {
    private final ObjectProvider<Hammer> hammer;
    private final ObjectProvider<Carillon> carillon;

    Ringing(ObjectProvider<Hammer> hammer, ObjectProvider<Carillon> carillon) {
        this.hammer = hammer;
        this.carillon = carillon;
        Counts.made(this);
    }

    @GetMapping("/ring")
    int ring() {
        Carillon all = carillon.getIfAvailable();
        return hammer.getObject().strike() + (all == null ? 0 : all.strike());
    }
}
