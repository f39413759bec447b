package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Recorder;
import java.util.ArrayList;
import java.util.List;
import java.util.function.Supplier;
import org.springframework.beans.factory.config.DependencyDescriptor;

/** A bean that is being built by this thread, or at least being asked for where that may build one. */
final class Building {
    private static final ThreadLocal<Building> LATEST = new ThreadLocal<>();

    final Container container;
    final String asked; // its name
    final Building around;
    final long began = Recorder.now();
    Supplier<String> type; // that was asked for, null for none
    Bean bean; // once it is known which
    boolean instantiated;
    Object raw; // as constructed
    List<Object> with = List.of();
    boolean byFactory;
    boolean own; // no request for it was seen
    boolean made;
    long inst;
    Long home; // the scope that it ends with, null while that is not known
    boolean disposable; // by the container
    Asked provider; // through which it was asked for

    Throwable thrown; // by its constructor or factory method
    Event.Fail failed; // in building what it asked for, where that may be why it fails itself
    boolean cyclic; // what failed was a cycle
    DependencyDescriptor latest; // that was resolved for it
    List<Made> built; // for it, other than singletons

    /** An instance that was built for another one. */
    record Made(String name, long inst) {}

    private Building(Container container, String asked) {
        this.container = container;
        this.asked = asked;
        around = LATEST.get();
    }

    static Building begin(Container container, String asked) {
        Building building = new Building(container, asked);
        LATEST.set(building);
        return building;
    }

    /** What this thread is building, null for nothing. */
    static Building latest() {
        return LATEST.get();
    }

    /** What this thread is building that has this name, null for nothing. */
    static Building of(Container container, String name) {
        for (Building b = LATEST.get(); b != null; b = b.around)
            if (b.container == container && b.asked.equals(name) && !b.own) return b;
        return null;
    }

    /** The type that was asked for, null for none. */
    String type() {
        if (type == null) return null;
        String text = type.get(); // of a class: "interface a.B" or "class a.B"
        return text.substring(text.indexOf(' ') + 1);
    }

    void end() {
        if (around == null) LATEST.remove();
        else LATEST.set(around);
    }

    void built(String name, long made) {
        if (made == 0) return;
        if (built == null) built = new ArrayList<>();
        built.add(new Made(name, made));
    }
}
