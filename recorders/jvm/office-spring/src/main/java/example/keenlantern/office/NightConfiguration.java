package example.keenlantern.office;

import java.util.concurrent.atomic.AtomicInteger;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Import;
import org.springframework.context.annotation.Profile;
import org.springframework.scheduling.annotation.EnableScheduling;
import org.springframework.scheduling.annotation.Scheduled;
import org.springframework.stereotype.Component;

/** What goes on at night: its own context inside the office's. */
@Configuration(proxyBeanMethods = false)
@EnableScheduling
@Import({NightConfiguration.ReconcileDesk.class, NightConfiguration.ClockOfItsOwn.class})
class NightConfiguration {
    /** Compares the ledger with what lies at the quays. */
    @Component
    static class ReconcileDesk {
        private final HarbourClock clock;
        private final AtomicInteger compared = new AtomicInteger();

        ReconcileDesk(HarbourClock clock) {
            this.clock = clock;
        }

        @Scheduled(fixedDelay = 50)
        void reconcile() {
            if (clock.now() > 0) compared.incrementAndGet();
        }

        int compared() {
            return compared.get();
        }
    }

    /** The night job's author imported the clock's configuration "to be sure that there is one". */
    @Configuration(proxyBeanMethods = false)
    @Profile("two-clocks")
    @Import(ClockConfiguration.class)
    static class ClockOfItsOwn {}
}
