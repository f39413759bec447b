package example.keenlantern.office;

/** The page of the log that one piece of work writes on. */
interface LogPage extends AutoCloseable {
    void write(String line);

    @Override
    void close();
}
