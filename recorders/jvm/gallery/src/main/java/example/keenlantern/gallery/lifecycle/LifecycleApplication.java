package example.keenlantern.gallery.lifecycle;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.annotation.PostConstruct;
import jakarta.annotation.PreDestroy;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import org.springframework.beans.factory.DisposableBean;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.scheduling.concurrent.ThreadPoolTaskExecutor;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** All the ways in which beans say that they are to be destroyed, or that they are not. */
@SpringBootApplication(proxyBeanMethods = false)
public class LifecycleApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(LifecycleApplication.class, context -> {
            Running.get(context, "/melt", 3);
            context.getBean(Crucible.class).close(); // the application's own business
        });
    }

    @Bean(destroyMethod = "")
    Crucible crucible() {
        return new Crucible();
    }

    @Bean(initMethod = "light", destroyMethod = "quench")
    Furnace furnace() {
        return new Furnace();
    }

    // Two beans of one class, one of which may be closed by the container.
    @Bean
    Bellows left() {
        return new Bellows();
    }

    @Bean
    Bellows right() {
        return new Bellows();
    }

    @Bean
    ExecutorService workers() {
        return Executors.newFixedThreadPool(1);
    }

    @Bean
    ThreadPoolTaskExecutor pool() {
        return new ThreadPoolTaskExecutor();
    }

    @Bean
    @Scope("prototype")
    Tongs tongs() {
        return new Tongs();
    }
}

class Crucible implements AutoCloseable {
    Crucible() {
        Counts.made(this);
    }

    @Override
    public void close() {}
}

class Furnace {
    Furnace() {
        Counts.made(this);
    }

    void light() {}

    void quench() {
        Counts.disposed(this);
    }
}

class Bellows implements AutoCloseable {
    Bellows() {
        Counts.made(this);
    }

    @Override
    public void close() {
        Counts.disposed(this);
    }
}

// A prototype that has to be closed: the container never does.
class Tongs implements AutoCloseable {
    Tongs() {
        Counts.made(this);
    }

    @Override
    public void close() {}
}

@Component
class Watch implements DisposableBean {
    Watch() {
        Counts.made(this);
    }

    @PostConstruct
    void begin() {}

    @Override
    public void destroy() {
        Counts.disposed(this);
    }
}

@Component
class Log {
    Log() {
        Counts.made(this);
    }

    @PreDestroy
    void end() {
        Counts.disposed(this);
    }
}

@RestController
class Melting {
    private final Furnace furnace;

    Melting(Furnace furnace, Bellows left, Bellows right, ExecutorService workers) {
        this.furnace = furnace;
        Counts.made(this);
    }

    @GetMapping("/melt")
    String melt() {
        return furnace.getClass().getSimpleName();
    }
}

@Component
@Profile("mistaken")
class Smith {
    Smith(Tongs tongs) {
        Counts.made(this);
    }
}
