package example.keenlantern.harbour.weather;

import example.keenlantern.harbour.api.WeatherReport;

/** The weather that the office's tests use: it never blows. */
public final class FakeWeather implements WeatherReport {
    /** Calm weather. */
    public FakeWeather() {}

    @Override
    public int wind() {
        return 0;
    }
}
