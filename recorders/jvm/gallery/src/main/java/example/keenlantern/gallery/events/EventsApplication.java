package example.keenlantern.gallery.events;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.ApplicationEventPublisher;
import org.springframework.context.annotation.Profile;
import org.springframework.context.event.ContextRefreshedEvent;
import org.springframework.context.event.EventListener;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.annotation.RequestScope;

/** Events of the application, and those who listen. */
@SpringBootApplication(proxyBeanMethods = false)
public class EventsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(EventsApplication.class);
        else running.web(EventsApplication.class, context -> Running.get(context, "/crack", 4));
    }
}

record Crack(int bell) {}

@Component
@RequestScope
class Inspection {
    Inspection() {
        Counts.made(this);
    }

    int found() {
        return 1;
    }
}

@Component
class Inspector {
    private final Inspection inspection;

    Inspector(Inspection inspection) {
        this.inspection = inspection;
        Counts.made(this);
    }

    @EventListener
    public Found on(Crack crack) {
        return new Found(crack.bell(), inspection.found());
    }
}

record Found(int bell, int cracks) {}

@Component
class Notes {
    private int cracks;

    Notes() {
        Counts.made(this);
    }

    @EventListener
    void on(Found found) {
        cracks += found.cracks();
    }

    int cracks() {
        return cracks;
    }
}

@RestController
class Inspecting {
    private final ApplicationEventPublisher events;
    private final Notes notes;

    Inspecting(ApplicationEventPublisher events, Notes notes) {
        this.events = events;
        this.notes = notes;
        Counts.made(this);
    }

    @GetMapping("/crack")
    int crack() {
        events.publishEvent(new Crack(1));
        return notes.cracks();
    }
}

// It uses a request's bean at the start, where there is no request.
@Component
@Profile("mistaken")
class Opening {
    private final Inspection inspection;

    Opening(Inspection inspection) {
        this.inspection = inspection;
        Counts.made(this);
    }

    @EventListener(ContextRefreshedEvent.class)
    void open() {
        inspection.found();
    }
}
