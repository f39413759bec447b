package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import java.util.List;
import java.util.Set;

/** A bean definition as it was recorded. */
final class Bean {
    final String name;
    final long reg;
    final Event.Lifetime lifetime;
    final boolean internal;
    final String service; // the name that people know it by
    final String key; // null for none
    final String impl; // as the definition has it, null where that is not known
    volatile boolean watched; // calls of its instances are recorded
    final boolean byInterface; // ... by their interfaces alone
    volatile Event.Register told;
    volatile Sites sites; // what construction asks for, null while that is not known
    volatile List<Member> members; // what is filled in later, null while that is not known
    volatile Ends ends; // how its instances are destroyed, null while none has been seen
    volatile long inst; // the latest instance of a singleton
    volatile Boolean wraps; // whether it is a layer around another one, null while that is not known

    /**
     * How an object of a class is destroyed.
     *
     * @param of the class
     * @param by the methods that the container calls for it
     * @param any whether there are any, or others that its annotations name
     */
    record Ends(Class<?> of, Set<String> by, boolean any) {}

    Bean(
            String name,
            long reg,
            Event.Register told,
            Event.Lifetime lifetime,
            boolean internal,
            String service,
            String key,
            String impl,
            boolean watched,
            boolean byInterface) {
        this.name = name;
        this.reg = reg;
        this.told = told;
        this.lifetime = lifetime;
        this.internal = internal;
        this.service = service;
        this.key = key;
        this.impl = impl;
        this.watched = watched;
        this.byInterface = byInterface;
    }

    boolean singleton() {
        return lifetime == Event.Lifetime.SINGLETON;
    }
}
