package example.keenlantern.harbour.weather;

import example.keenlantern.harbour.api.Clock;
import example.keenlantern.harbour.api.WeatherReport;

/** The weather at a station, from its buoy. */
public final class BuoyWeather implements WeatherReport {
    private final Clock clock;

    /** One that reads the buoy at the times of a clock. */
    public BuoyWeather(Clock clock) {
        this.clock = clock;
    }

    @Override
    public int wind() {
        return 4 + (int) (clock.now() % 3);
    }

    void stop() {
        // The buoy goes on without it.
    }
}
