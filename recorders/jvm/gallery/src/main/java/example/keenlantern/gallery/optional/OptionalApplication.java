package example.keenlantern.gallery.optional;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import java.util.List;
import java.util.Optional;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.annotation.Autowired;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.ApplicationContext;
import org.springframework.context.annotation.Profile;
import org.springframework.lang.Nullable;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** What may be absent, in every way in which that can be said. */
@SpringBootApplication(proxyBeanMethods = false)
public class OptionalApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(OptionalApplication.class);
        else running.web(OptionalApplication.class, context -> Running.get(context, "/weigh", 6));
    }
}

interface Polish {}

interface Gilding {}

interface Engraving {}

interface Wheel {}

@Component
class Yard {
    private Polish polish;

    @Autowired(required = false)
    private Gilding gilding;

    Yard(Optional<Engraving> engraving, @Nullable Wheel wheel) {
        Counts.made(this);
    }

    @Autowired(required = false)
    void polish(Polish polish) {
        this.polish = polish;
    }

    int finish() {
        return polish == null && gilding == null ? 0 : 1;
    }
}

@RestController
class Weighing {
    private final Yard yard;
    private final ObjectProvider<Polish> polish;
    private final ApplicationContext context;

    Weighing(Yard yard, ObjectProvider<Polish> polish, ObjectProvider<List<Wheel>> wheels, ApplicationContext context) {
        this.yard = yard;
        this.polish = polish;
        this.context = context;
        Counts.made(this);
    }

    @GetMapping("/weigh")
    long weigh() {
        return yard.finish()
                + (polish.getIfAvailable() == null ? 0 : 1)
                + (polish.getIfUnique() == null ? 0 : 1)
                + polish.stream().count()
                + context.getBeanProvider(Gilding.class).orderedStream().count();
    }
}

@Component
@Profile("mistaken")
class Shipping {
    Shipping(Wheel wheel) {
        Counts.made(this);
    }
}
