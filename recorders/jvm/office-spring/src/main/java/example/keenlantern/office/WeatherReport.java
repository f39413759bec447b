package example.keenlantern.office;

/** The weather at a station. */
interface WeatherReport {
    int wind();
}
