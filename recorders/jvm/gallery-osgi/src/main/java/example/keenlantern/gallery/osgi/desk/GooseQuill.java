package example.keenlantern.gallery.osgi.desk;

import example.keenlantern.gallery.osgi.api.Quill;
import example.keenlantern.gallery.osgi.counts.Counts;

/** A quill of a goose. */
public final class GooseQuill implements Quill {
    /** Is built by the component runtime. */
    public GooseQuill() {
        Counts.made(this);
    }

    private int cuts;

    @Override
    public void cut() {
        cuts++;
    }

    @Override
    public String toString() {
        return cuts + " cuts";
    }

    void end() {
        Counts.disposed(this);
    }
}
