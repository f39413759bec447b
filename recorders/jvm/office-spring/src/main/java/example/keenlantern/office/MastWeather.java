package example.keenlantern.office;

/** The weather at the lock gate, from its mast. */
record MastWeather(HarbourClock clock) implements WeatherReport {
    @Override
    public int wind() {
        return 2 + (int) (clock.now() % 3);
    }
}
