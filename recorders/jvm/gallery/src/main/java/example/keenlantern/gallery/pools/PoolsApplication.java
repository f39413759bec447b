package example.keenlantern.gallery.pools;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.annotation.PreDestroy;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Bean;
import org.springframework.core.env.Environment;
import org.springframework.scheduling.annotation.Async;
import org.springframework.scheduling.annotation.EnableAsync;
import org.springframework.stereotype.Service;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Pools of threads whose users are components without interfaces, with every call recorded. */
@SpringBootApplication(proxyBeanMethods = false)
@EnableAsync
public class PoolsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(
                PoolsApplication.class,
                context -> Running.get(context, "/wind", 3),
                "keenlantern.uses=Winder,Chime,Spring,workers");
    }

    @Bean
    ExecutorService workers() {
        return Executors.newFixedThreadPool(2);
    }

    @Bean
    Spring spring() {
        return new Spring();
    }
}

class Spring implements AutoCloseable {
    private int turns;

    Spring() {
        Counts.made(this);
    }

    synchronized int turn() {
        return ++turns;
    }

    @Override
    public void close() {
        Counts.disposed(this);
    }
}

@Service
class Winder {
    private final ExecutorService workers;
    private final Spring spring;
    private final boolean mistaken;

    Winder(ExecutorService workers, Spring spring, Environment environment) {
        this.workers = workers;
        this.spring = spring;
        mistaken = environment.matchesProfiles("mistaken");
        Counts.made(this);
    }

    int wind() throws ExecutionException, InterruptedException {
        return workers.submit(spring::turn).get();
    }

    // It does not own the pool: the container shuts it down.
    @PreDestroy
    void stop() {
        Counts.disposed(this);
        if (mistaken) workers.shutdown();
    }
}

// It is behind one of the container's proxies already.
@Service
class Chime {
    Chime() {
        Counts.made(this);
    }

    @Async
    void strike() {}
}

@RestController
class Winding {
    private final Winder winder;
    private final Chime chime;

    Winding(Winder winder, Chime chime) {
        this.winder = winder;
        this.chime = chime;
        Counts.made(this);
    }

    @GetMapping("/wind")
    String wind() throws ExecutionException, InterruptedException {
        chime.strike();
        return "turn " + winder.wind();
    }
}
