package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.api.Quill;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Has two quills. */
public final class Illuminator {
    private final Quill fine;
    private final Quill broad;
    private final Inkwell inkwell;

    /** Is built by the component runtime. */
    public Illuminator(Quill fine, Quill broad, Inkwell inkwell) {
        this.fine = fine;
        this.broad = broad;
        this.inkwell = inkwell;
        Counts.made(this);
    }

    void begin() {
        fine.cut();
        broad.cut();
        inkwell.dip();
    }

    void end() {
        Counts.disposed(this);
    }
}
