package example.keenlantern.harbour.api;

/** The page of the log that one bundle writes on. */
public interface LogPage {
    /** Writes a line, and returns how many there are. */
    int write(String line);
}
