package example.keenlantern.gallery.osgi.tower;

import example.keenlantern.gallery.osgi.api.Barometer;
import example.keenlantern.gallery.osgi.api.Notebook;
import example.keenlantern.gallery.osgi.counts.Counts;

/** Needs an instrument that the tower may not have. */
public final class Forecaster {
    private final Notebook notebook;
    private final Barometer barometer;

    /** Is built by the component runtime. */
    public Forecaster(Notebook notebook, Barometer barometer) {
        this.notebook = notebook;
        this.barometer = barometer;
        Counts.made(this);
    }

    void begin() {
        notebook.write("pressure " + barometer.pressure());
    }

    void end() {
        Counts.disposed(this);
    }
}
