package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Blotter;
import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Asks for the inkwell, which is mistaken to ask for it. */
public final class SandBlotter implements Blotter {
    private final Inkwell inkwell;

    /** Is built by the component runtime. */
    public SandBlotter(Inkwell inkwell) {
        this.inkwell = inkwell;
        Counts.made(this);
    }

    @Override
    public void press() {
        inkwell.dip();
    }

    void end() {
        Counts.disposed(this);
    }
}
