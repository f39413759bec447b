package example.keenlantern.gallery;

import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Collectors;

/** What an application itself counts, beside the recorder: how many instances of each class it built and disposed. */
public final class Counts {
    private static boolean stopped;
    private static final Map<String, Integer> MADE = new TreeMap<>();
    private static final Map<String, Integer> DISPOSED = new TreeMap<>();

    private Counts() {}

    /** Counts an instance, in its constructor. */
    public static synchronized void made(Object instance) {
        if (!stopped) MADE.merge(nameOf(instance), 1, Integer::sum);
    }

    /** Counts an instance's end. */
    public static synchronized void disposed(Object instance) {
        if (!stopped) DISPOSED.merge(nameOf(instance), 1, Integer::sum);
    }

    // The container's proxies are separate classes.
    private static String nameOf(Object instance) {
        Class<?> type = instance.getClass();
        while (type.getName().contains("$$")) type = type.getSuperclass();
        return type.getSimpleName();
    }

    static synchronized void begin() {
        stopped = false;
        MADE.clear();
        DISPOSED.clear();
    }

    // Looking for what kept an application from starting, the framework builds some things once more.
    static synchronized void stop() {
        stopped = true;
    }

    static synchronized String json(String name, boolean mistaken) {
        return "{\"name\":\"" + name + "\",\"mistaken\":" + mistaken + ",\"made\":" + object(MADE) + ",\"disposed\":"
                + object(DISPOSED) + "}";
    }

    private static String object(Map<String, Integer> counts) {
        return counts.entrySet().stream()
                .map(e -> "\"" + e.getKey() + "\":" + e.getValue())
                .collect(Collectors.joining(",", "{", "}"));
    }
}
