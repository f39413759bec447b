package example.keenlantern.harbour.api;

/** A ticket for whoever asks for one. */
public interface Ticket {
    /** Its number. */
    int number();
}
