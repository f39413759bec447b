package example.keenlantern.record;

import java.lang.ref.ReferenceQueue;
import java.lang.ref.WeakReference;
import java.util.HashMap;
import java.util.Map;

/** Writes keys of any type. */
public final class Keys {
    // By identity: an object's own equality may be anything.
    private final Map<Identity, Integer> numbers = new HashMap<>();
    private final ReferenceQueue<Object> gone = new ReferenceQueue<>();
    private int count;

    private static final class Identity extends WeakReference<Object> {
        private final int hash;

        Identity(Object of, ReferenceQueue<Object> gone) {
            super(of, gone);
            hash = System.identityHashCode(of);
        }

        @Override
        public int hashCode() {
            return hash;
        }

        @Override
        public boolean equals(Object other) {
            return this == other || other instanceof Identity o && get() != null && get() == o.get();
        }
    }

    /** Makes one that has numbered nothing yet. */
    public Keys() {}

    /**
     * How a trace writes a key: a text as it is, anything else as its type in parentheses and its value, so that keys which differ never
     * look alike. An object is numbered in the order in which it is met: what it prints of itself is never asked for.
     */
    public String text(Object key) {
        if (key == null) return "(null)";
        if (key instanceof String text) return text.startsWith("(") ? "(text) " + text : text;
        if (key instanceof Class<?> type) return "(type) " + type.getName();
        if (key instanceof Enum<?> member)
            return "(" + member.getDeclaringClass().getName() + ") " + member.name();
        String type = "(" + key.getClass().getName() + ")";
        String name = key.getClass().getName();
        if (name.startsWith("java.lang.")
                && (key instanceof Number || key instanceof Boolean || key instanceof Character))
            return "(" + name.substring("java.lang.".length()) + ") " + key;
        return type + " #" + number(key);
    }

    private synchronized int number(Object key) {
        for (Object old = gone.poll(); old != null; old = gone.poll()) numbers.remove(old);
        return numbers.computeIfAbsent(new Identity(key, gone), of -> ++count);
    }
}
