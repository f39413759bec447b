package example.keenlantern.record;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;

/**
 * What has been noted and not yet written, in its order. Any thread adds to it, without waiting for another one and without making
 * anything but the note; one thread takes from it. (An intrusive queue of many producers and one consumer, after D. Vyukov.)
 */
final class Notes {
    private static final VarHandle LAST;

    static {
        try {
            LAST = MethodHandles.lookup().findVarHandle(Notes.class, "last", Event.class);
        } catch (ReflectiveOperationException e) {
            throw new ExceptionInInitializerError(e);
        }
    }

    private Event first = new Event.Bye(); // behind which the notes are
    private volatile Event last = first;

    void add(Event note) {
        Event before = (Event) LAST.getAndSet(this, note);
        before.next = note;
    }

    /** Takes the first note; null where there is none, or the thread that adds it has not come to its end. */
    Event take() {
        Event note = first.next;
        if (note == null) return null;
        first.next = null; // or what is old would keep what is young alive
        first = note;
        return note;
    }
}
