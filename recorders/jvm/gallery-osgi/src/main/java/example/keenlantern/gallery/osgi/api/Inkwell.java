package example.keenlantern.gallery.osgi.api;

/** All share it. */
public interface Inkwell {
    /** Does so. */
    void dip();
}
