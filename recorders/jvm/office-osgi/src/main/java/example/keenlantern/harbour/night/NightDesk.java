package example.keenlantern.harbour.night;

import example.keenlantern.harbour.api.Clock;
import example.keenlantern.harbour.api.LogPage;
import example.keenlantern.harbour.api.Ticket;

/** Compares the ledger with what lies at the quays. */
public final class NightDesk {
    private final Clock clock;
    private final LogPage page;
    private final Ticket ticket;

    /** A desk with a page and its own ticket. */
    public NightDesk(Clock clock, LogPage page, Ticket ticket) {
        this.clock = clock;
        this.page = page;
        this.ticket = ticket;
    }

    void begin() {
        page.write(ticket.number() + " at " + clock.now());
    }

    void end() {
        // It is day.
    }
}
