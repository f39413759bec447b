package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Blotter;
import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Asks for the blotter. */
public final class DeepInkwell implements Inkwell {
    private final Blotter blotter;

    /** Is built by the component runtime. */
    public DeepInkwell(Blotter blotter) {
        this.blotter = blotter;
        Counts.made(this);
    }

    @Override
    public void dip() {
        blotter.press();
    }

    void end() {
        Counts.disposed(this);
    }
}
