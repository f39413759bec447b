package example.keenlantern.office;

/** The weather at the outer bar, from its buoy. */
record BuoyWeather(HarbourClock clock) implements WeatherReport {
    @Override
    public int wind() {
        return 4 + (int) (clock.now() % 3);
    }
}
