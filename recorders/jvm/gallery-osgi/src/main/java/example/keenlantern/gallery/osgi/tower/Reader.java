package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Notebook;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Writes in the same notebook, in the same tower. */
public final class Reader {
    private final Notebook notebook;

    /** Is built by the component runtime. */
    public Reader(Notebook notebook) {
        this.notebook = notebook;
        Counts.made(this);
    }

    void begin() {
        notebook.write("read");
    }

    void end() {
        Counts.disposed(this);
    }
}
