package example.keenlantern.gallery.osgi.desk;

import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.counts.Counts;

/** An inkwell of glass. */
public final class GlassInkwell implements Inkwell {
    /** Is built by the component runtime. */
    public GlassInkwell() {
        Counts.made(this);
    }

    private int dips;

    @Override
    public void dip() {
        dips++;
    }

    @Override
    public String toString() {
        return dips + " dips";
    }

    void end() {
        Counts.disposed(this);
    }
}
