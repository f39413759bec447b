package example.keenlantern.gallery.scheduled;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import org.springframework.beans.factory.BeanFactory;
import org.springframework.beans.factory.NoSuchBeanDefinitionException;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Scope;
import org.springframework.scheduling.annotation.EnableScheduling;
import org.springframework.scheduling.annotation.Scheduled;
import org.springframework.stereotype.Component;

/** Work at each tick, with what it needs again. */
@SpringBootApplication(proxyBeanMethods = false)
@EnableScheduling
public class ScheduledApplication {
    static boolean mistaken;
    static CountDownLatch ticks;

    /** Runs it. */
    public static void run(Running running) throws Exception {
        mistaken = running.mistaken();
        ticks = new CountDownLatch(15);
        running.plain(ScheduledApplication.class, context -> {
            if (!ticks.await(20, TimeUnit.SECONDS)) throw new IllegalStateException("it does not tick");
        });
    }
}

@Component
@Scope("prototype")
class Probe {
    Probe() {
        Counts.made(this);
    }
}

@Component
class Pyrometer {
    private final ObjectProvider<Probe> probes;
    private final BeanFactory beans;

    Pyrometer(ObjectProvider<Probe> probes, BeanFactory beans) {
        this.probes = probes;
        this.beans = beans;
        Counts.made(this);
    }

    @Scheduled(fixedDelay = 5)
    void measure() {
        if (ScheduledApplication.ticks.getCount() == 0) return;
        try {
            if (ScheduledApplication.mistaken) beans.getBean("prob");
        } catch (NoSuchBeanDefinitionException e) {
            // It goes on without.
        }
        probes.getObject();
        ScheduledApplication.ticks.countDown();
    }
}
