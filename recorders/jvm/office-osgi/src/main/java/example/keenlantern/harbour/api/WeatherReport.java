package example.keenlantern.harbour.api;

/** The weather at a station. */
public interface WeatherReport {
    /** The wind's force. */
    int wind();
}
