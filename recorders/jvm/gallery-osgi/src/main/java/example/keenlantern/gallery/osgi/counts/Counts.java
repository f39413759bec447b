package example.keenlantern.gallery.osgi.counts;

import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Collectors;

/** What an application itself counts, beside the recorder. All bundles share it. */
public final class Counts {
    private static final Map<String, Integer> MADE = new TreeMap<>();
    private static final Map<String, Integer> DISPOSED = new TreeMap<>();

    private Counts() {}

    /** Counts an instance, in its constructor. */
    public static synchronized void made(Object instance) {
        MADE.merge(instance.getClass().getSimpleName(), 1, Integer::sum);
    }

    /** Counts an instance's end. */
    public static synchronized void disposed(Object instance) {
        DISPOSED.merge(instance.getClass().getSimpleName(), 1, Integer::sum);
    }

    /** Begins to count. */
    public static synchronized void begin() {
        MADE.clear();
        DISPOSED.clear();
    }

    /** Returns the counts of an application as JSON. */
    public static synchronized String json(String name, boolean mistaken) {
        return "{\"name\":\"" + name + "\",\"mistaken\":" + mistaken + ",\"made\":" + object(MADE) + ",\"disposed\":"
                + object(DISPOSED) + "}";
    }

    private static String object(Map<String, Integer> counts) {
        return counts.entrySet().stream()
                .map(e -> "\"" + e.getKey() + "\":" + e.getValue())
                .collect(Collectors.joining(",", "{", "}"));
    }
}
