package example.keenlantern.office;

/** The water at the gauges, as one request reads it. */
class GaugeTides implements TideSource, AutoCloseable {
    private final GaugeLines lines;
    private final HarbourClock clock;

    GaugeTides(GaugeLines lines, HarbourClock clock) {
        this.lines = lines;
        this.clock = clock;
        lines.take();
    }

    @Override
    public double height(String gauge) {
        return (gauge.length() * 37 + clock.now() % 7) / 10.0;
    }

    @Override
    public void close() {
        lines.giveBack();
    }
}
