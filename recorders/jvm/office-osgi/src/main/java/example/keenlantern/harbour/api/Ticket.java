package example.keenlantern.harbour.api;

/** A ticket for each request. */
public interface Ticket {
    /** Its number. */
    int number();
}
