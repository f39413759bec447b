package example.keenlantern.gallery.osgi.api;

/** Dries what was written. */
public interface Blotter {
    /** Does so. */
    void press();
}
