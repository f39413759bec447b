package example.keenlantern.gallery.osgi.desk;

import example.keenlantern.gallery.osgi.api.Notebook;
import example.keenlantern.gallery.osgi.counts.Counts;

/** A notebook of paper. */
public final class PaperNotebook implements Notebook {
    /** Is built by the component runtime. */
    public PaperNotebook() {
        Counts.made(this);
    }

    private String latest = "";

    @Override
    public void write(String line) {
        latest = line;
    }

    @Override
    public String toString() {
        return latest;
    }

    void end() {
        Counts.disposed(this);
    }
}
