package example.keenlantern.office;

/** Remembers what was read, and that it was. */
class AuditedTides implements TideSource {
    private final TideSource inner;
    private int read;

    AuditedTides(TideSource inner) {
        this.inner = inner;
    }

    @Override
    public double height(String gauge) {
        read++;
        return inner.height(gauge);
    }

    int read() {
        return read;
    }
}
