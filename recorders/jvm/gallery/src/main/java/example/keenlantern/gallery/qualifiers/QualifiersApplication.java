package example.keenlantern.gallery.qualifiers;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import java.util.List;
import java.util.Map;
import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Primary;
import org.springframework.context.annotation.Profile;
import org.springframework.core.annotation.Order;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Qualifiers, a primary one, names of parameters, type arguments, lists and maps. */
@SpringBootApplication(proxyBeanMethods = false)
public class QualifiersApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(QualifiersApplication.class);
        else running.web(QualifiersApplication.class, context -> Running.get(context, "/tone", 3));
    }
}

interface Tone {
    int pitch();
}

@Component
@Primary
@Order(1)
class Hum implements Tone {
    Hum() {
        Counts.made(this);
    }

    @Override
    public int pitch() {
        return 1;
    }
}

@Component
@Qualifier("low")
@Order(2)
class Prime implements Tone {
    Prime() {
        Counts.made(this);
    }

    @Override
    public int pitch() {
        return 2;
    }
}

@Component
@Order(3)
class Tierce implements Tone {
    Tierce() {
        Counts.made(this);
    }

    @Override
    public int pitch() {
        return 3;
    }
}

interface Measure<T extends Tone> {}

@Component
class HumMeasure implements Measure<Hum> {
    HumMeasure() {
        Counts.made(this);
    }
}

@Component
class PrimeMeasure implements Measure<Prime> {
    PrimeMeasure() {
        Counts.made(this);
    }
}

@RestController
class Tuning {
    private final Tone tone;
    private final List<Tone> all;

    Tuning(
            Tone tone,
            @Qualifier("low") Tone low,
            @Qualifier("tierce") Tone third,
            List<Tone> all,
            Map<String, Tone> named,
            Measure<Hum> hum,
            Measure<Prime> prime) {
        this.tone = tone;
        this.all = all;
        Counts.made(this);
    }

    @GetMapping("/tone")
    int tone() {
        return tone.pitch() + all.size();
    }
}

@Component
@Profile("mistaken")
class Tuner {
    Tuner(@Qualifier("lo") Tone tone) {
        Counts.made(this);
    }
}
