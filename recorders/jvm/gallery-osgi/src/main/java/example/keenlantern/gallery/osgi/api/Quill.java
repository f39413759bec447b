package example.keenlantern.gallery.osgi.api;

/** Each component has its own. */
public interface Quill {
    /** Does so. */
    void cut();
}
