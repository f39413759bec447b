package example.keenlantern.office;

/** The office's clock. */
class HarbourClock {
    long now() {
        return System.currentTimeMillis();
    }
}
