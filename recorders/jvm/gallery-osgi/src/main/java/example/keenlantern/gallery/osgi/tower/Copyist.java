package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.api.Quill;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Writes with its own quill. */
public final class Copyist {
    private final Quill quill;
    private final Inkwell inkwell;

    /** Is built by the component runtime. */
    public Copyist(Quill quill, Inkwell inkwell) {
        this.quill = quill;
        this.inkwell = inkwell;
        Counts.made(this);
    }

    void begin() {
        quill.cut();
        inkwell.dip();
    }

    void end() {
        Counts.disposed(this);
    }
}
