package example.keenlantern.harbour.api;

/** Sends tugs. */
public interface Dispatcher {
    /** What comes of it. */
    String send();
}
