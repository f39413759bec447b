package example.keenlantern.office;

import java.util.concurrent.atomic.AtomicInteger;

/** Lines to the gauges out on the marsh. A request takes one and gives it back. */
class GaugeLines {
    private final AtomicInteger free = new AtomicInteger(64);

    void take() {
        free.decrementAndGet();
    }

    void giveBack() {
        free.incrementAndGet();
    }
}
