package example.keenlantern.gallery.osgi.api;

/** Measures the pressure of the air. */
public interface Barometer {
    /** Does so. */
    int pressure();
}
