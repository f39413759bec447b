package example.keenlantern.office;

/** The weather that the office's tests use: it never blows. */
class FakeWeather implements WeatherReport {
    @Override
    public int wind() {
        return 0;
    }
}
