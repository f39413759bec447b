package example.keenlantern.harbour.desk;

import example.keenlantern.harbour.api.Ticket;
import java.util.concurrent.atomic.AtomicInteger;

/** A ticket of paper. */
public final class PaperTicket implements Ticket {
    private static final AtomicInteger LAST = new AtomicInteger();

    private final int number = LAST.incrementAndGet();

    /** The next one. */
    public PaperTicket() {}

    @Override
    public int number() {
        return number;
    }

    void tear() {
        // It is void.
    }
}
