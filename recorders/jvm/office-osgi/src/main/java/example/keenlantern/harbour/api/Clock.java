package example.keenlantern.harbour.api;

/** What time it is in the harbour. */
public interface Clock {
    /** The time in ms. */
    long now();
}
