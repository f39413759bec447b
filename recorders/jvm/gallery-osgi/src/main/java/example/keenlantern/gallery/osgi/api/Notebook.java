package example.keenlantern.gallery.osgi.api;

/** Each bundle has its own. */
public interface Notebook {
    /** Does so. */
    void write(String line);
}
