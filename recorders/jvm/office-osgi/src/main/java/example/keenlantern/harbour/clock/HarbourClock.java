package example.keenlantern.harbour.clock;

import example.keenlantern.harbour.api.Clock;

/** The office's clock. */
public final class HarbourClock implements Clock {
    /** One that shows the time. */
    public HarbourClock() {}

    @Override
    public long now() {
        return System.currentTimeMillis();
    }
}
