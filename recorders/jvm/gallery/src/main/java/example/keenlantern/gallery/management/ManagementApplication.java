package example.keenlantern.gallery.management;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.validation.constraints.Max;
import org.springframework.boot.actuate.health.Health;
import org.springframework.boot.actuate.health.HealthIndicator;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.cache.annotation.EnableCaching;
import org.springframework.context.annotation.Profile;
import org.springframework.scheduling.annotation.EnableAsync;
import org.springframework.stereotype.Component;
import org.springframework.stereotype.Service;
import org.springframework.validation.annotation.Validated;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Health indicators and end points, and validated methods. */
@SpringBootApplication(proxyBeanMethods = false)
@EnableAsync
@EnableCaching
public class ManagementApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(ManagementApplication.class);
        else
            running.web(
                    ManagementApplication.class,
                    context -> {
                        Running.get(context, "/heat", 3);
                        Running.get(context, "/actuator/health", 2);
                        Running.get(context, "/actuator/beans", 1);
                    },
                    "management.endpoints.web.exposure.include=*");
    }
}

@Component
class Flue implements HealthIndicator {
    Flue() {
        Counts.made(this);
    }

    @Override
    public Health health() {
        return Health.up().build();
    }
}

@Service
@Validated
class Heat {
    Heat() {
        Counts.made(this);
    }

    public int raise(@Max(1200) int degrees) {
        return degrees;
    }
}

@RestController
class Heating {
    private final Heat heat;

    Heating(Heat heat) {
        this.heat = heat;
        Counts.made(this);
    }

    @GetMapping("/heat")
    int heat() {
        return heat.raise(1100);
    }
}

@Component
@Profile("mistaken")
class Damper {
    Damper(Vane vane) {
        Counts.made(this);
    }
}

// It was meant to be a component.
class Vane {}
