package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Notebook;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Writes down what the sky looks like. */
public final class Observer {
    private final Notebook notebook;

    /** Is built by the component runtime. */
    public Observer(Notebook notebook) {
        this.notebook = notebook;
        Counts.made(this);
    }

    void begin() {
        notebook.write("clear");
    }

    void end() {
        Counts.disposed(this);
    }
}
