package example.keenlantern.harbour.api;

/** Sends tugs. */
public interface Dispatcher {
    /** The result. */
    String send();
}
