package example.keenlantern.gallery.providers;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.annotation.Lookup;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Scope;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.annotation.RequestScope;

/** What is asked for later: by a provider, a lazy proxy or a method, of prototypes, singletons and what a proxy stands before. */
@SpringBootApplication(proxyBeanMethods = false)
public class ProvidersApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(ProvidersApplication.class, context -> Running.get(context, "/draw", 8));
    }
}

@Component
@Scope("prototype")
class Sketch {
    Sketch() {
        Counts.made(this);
    }
}

@Component
@RequestScope
class Client {
    Client() {
        Counts.made(this);
    }

    String name() {
        return "a parish";
    }
}

@Component
@Lazy
class Archive {
    Archive() {
        Counts.made(this);
    }

    int drawings() {
        return 7;
    }
}

@Component
class Pattern {
    private final Archive archive;
    private final ObjectProvider<Client> client;

    Pattern(@Lazy Archive archive, ObjectProvider<Client> client) {
        this.archive = archive;
        this.client = client;
        Counts.made(this);
    }

    int draw() {
        return archive.drawings() + client.getObject().name().length();
    }
}

@Component
abstract class Draughtsman {
    Draughtsman() {
        Counts.made(this);
    }

    @Lookup
    abstract Sketch sketch();
}

@RestController
class Drawing {
    private final Pattern pattern;
    private final Draughtsman draughtsman;
    private final ObjectProvider<Sketch> sketches;

    Drawing(Pattern pattern, Draughtsman draughtsman, ObjectProvider<Sketch> sketches) {
        this.pattern = pattern;
        this.draughtsman = draughtsman;
        this.sketches = sketches;
        Counts.made(this);
    }

    @GetMapping("/draw")
    int draw() {
        return pattern.draw()
                + draughtsman.sketch().hashCode() % 2
                + sketches.getObject().hashCode() % 2;
    }
}
