package example.keenlantern.harbour.desk;

import example.keenlantern.harbour.api.LogPage;
import java.util.concurrent.atomic.AtomicInteger;

/** A page of paper. */
public final class PaperPage implements LogPage {
    private final AtomicInteger lines = new AtomicInteger();

    /** An empty one. */
    public PaperPage() {}

    @Override
    public int write(String line) {
        return lines.incrementAndGet();
    }

    void file() {
        lines.set(0);
    }
}
