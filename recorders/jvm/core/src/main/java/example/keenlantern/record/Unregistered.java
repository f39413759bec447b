package example.keenlantern.record;

import java.util.HashSet;
import java.util.Set;

/** The services and keys that were asked for and are not registered. They may come from requests, and so be data without bound. */
final class Unregistered {
    /** Stands for one that is not written. */
    static final String PLACEHOLDER = "(not registered)";

    private static final int MOST = 256;

    private final boolean hide;
    private final Set<Long> seen = new HashSet<>(); // hashes: a name may be of any length

    Unregistered(boolean hide) {
        this.hide = hide;
    }

    /** Leaves the names of a failure as they are, or puts the placeholder there. Of a service with a key, the key alone may be data. */
    synchronized void name(Event.Fail fail) {
        long asked = hash(fail.key, hash(fail.service, 0xcbf29ce484222325L) * 31);
        if (!hide && (seen.contains(asked) || seen.size() < MOST)) {
            seen.add(asked);
            return;
        }
        if (fail.key != null) fail.key = PLACEHOLDER;
        else fail.service = PLACEHOLDER;
    }

    // FNV-1a, over characters.
    private static long hash(String text, long hash) {
        if (text != null) for (int n = 0; n < text.length(); n++) hash = (hash ^ text.charAt(n)) * 0x100000001b3L;
        return hash;
    }
}
