package example.keenlantern.gallery.requests;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.annotation.PreDestroy;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.WebApplicationContext;
import org.springframework.web.context.annotation.RequestScope;

/** Beans of a request: behind a proxy, and by a provider. */
@SpringBootApplication(proxyBeanMethods = false)
public class RequestsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(RequestsApplication.class, context -> Running.get(context, "/cast", 4));
    }

    @Bean
    @Lazy
    @Profile("mistaken")
    Foreman foreman(Ladle ladle) {
        return new Foreman(ladle);
    }
}

@Component
@RequestScope
class Mould {
    Mould() {
        Counts.made(this);
    }

    int size() {
        return 3;
    }

    @PreDestroy
    void end() {
        Counts.disposed(this);
    }
}

// Without a proxy: it is for whom asks in a request.
@Component
@Scope(WebApplicationContext.SCOPE_REQUEST)
class Ladle {
    private final Mould mould;

    Ladle(Mould mould) {
        this.mould = mould;
        Counts.made(this);
    }

    int pour() {
        return mould.size();
    }
}

class Foreman {
    private final Ladle ladle;

    Foreman(Ladle ladle) {
        this.ladle = ladle;
        Counts.made(this);
    }

    int pour() {
        return ladle.pour();
    }
}

@RestController
class Casting {
    private final Mould mould;
    private final ObjectProvider<Ladle> ladle;
    private final ObjectProvider<Foreman> foreman;

    Casting(Mould mould, ObjectProvider<Ladle> ladle, ObjectProvider<Foreman> foreman) {
        this.mould = mould;
        this.ladle = ladle;
        this.foreman = foreman;
        Counts.made(this);
    }

    @GetMapping("/cast")
    int cast() {
        Foreman who = foreman.getIfAvailable();
        return mould.size() + ladle.getObject().pour() + ladle.getObject().pour() + (who == null ? 0 : who.pour());
    }
}
