package example.keenlantern.record;

import java.util.HashSet;
import java.util.Set;

/** The services and keys that were asked for and are not registered. They may come from requests, and so be data without bound. */
final class Unregistered {
    /** Stands for one that is not written. */
    static final String PLACEHOLDER = "(not registered)";

    private static final int MOST = 256;

    private record Asked(String service, String key) {}

    private final boolean hide;
    private final Set<Asked> seen = new HashSet<>();

    Unregistered(boolean hide) {
        this.hide = hide;
    }

    /** Leaves the names of a failure as they are, or puts the placeholder there. Of a service with a key, the key alone may be data. */
    synchronized void name(Event.Fail fail) {
        Asked asked = new Asked(fail.service, fail.key);
        if (!hide && (seen.contains(asked) || seen.size() < MOST)) {
            seen.add(asked);
            return;
        }
        if (fail.key != null) fail.key = PLACEHOLDER;
        else fail.service = PLACEHOLDER;
    }
}
