package example.keenlantern.record;

import java.lang.ref.Reference;
import java.lang.ref.ReferenceQueue;
import java.lang.ref.WeakReference;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.function.LongConsumer;

/** Which object is which instance. It keeps no object alive, and reports those that are collected. */
final class Instances {
    static final int BYTES = 128; // about what it takes to remember one

    private final ConcurrentHashMap<Object, Ref> known = new ConcurrentHashMap<>();
    private final ReferenceQueue<Object> collected = new ReferenceQueue<>();
    private final AtomicInteger size = new AtomicInteger();
    private final int most;

    Instances(int most) {
        this.most = most;
    }

    private static final class Ref extends WeakReference<Object> {
        final int hash;
        final long inst;
        volatile boolean told; // its collection is

        Ref(Object object, long inst, boolean told, ReferenceQueue<Object> queue) {
            super(object, queue);
            this.hash = System.identityHashCode(object);
            this.inst = inst;
            this.told = told;
        }

        @Override
        public int hashCode() {
            return hash;
        }

        @Override
        public boolean equals(Object other) {
            if (this == other) return true;
            Object object = get();
            return object != null && other instanceof Ref ref && ref.refersTo(object);
        }
    }

    /** What an object is looked up by. */
    private record Probe(Object object) {
        @Override
        public int hashCode() {
            return System.identityHashCode(object);
        }

        @Override
        public boolean equals(Object other) {
            return other instanceof Ref ref && ref.refersTo(object);
        }
    }

    /** Whether there is room to remember another one. */
    boolean full() {
        return size.get() >= most;
    }

    /** Stores what an object is; {@code tell}: its collection is to be recorded. */
    void know(Object object, long inst, boolean tell) {
        Ref ref = new Ref(object, inst, tell, collected);
        Ref was = known.put(ref, ref);
        if (was == null) size.incrementAndGet();
        else {
            // The key of before stays in the map; it is replaced, so that what is collected later is the new one.
            known.remove(ref);
            known.put(ref, ref);
        }
    }

    /** The instance that an object is, 0 where it is none that is known. */
    long of(Object object) {
        Ref ref = object == null ? null : known.get(new Probe(object));
        return ref == null ? 0 : ref.inst;
    }

    /** Records that an object has been disposed: its collection then adds nothing. */
    void ended(Object object) {
        Ref ref = known.get(new Probe(object));
        if (ref != null) ref.told = false;
    }

    /** Drops what has been collected, and records that. */
    void collect(LongConsumer gone) {
        for (Reference<?> r = collected.poll(); r != null; r = collected.poll()) {
            Ref ref = (Ref) r;
            if (known.remove(ref, ref)) size.decrementAndGet();
            if (ref.told) gone.accept(ref.inst);
        }
    }
}
