package example.keenlantern.harbour.tugs;

import example.keenlantern.harbour.api.Crew;
import example.keenlantern.harbour.api.Dispatcher;
import example.keenlantern.harbour.api.WeatherReport;

/** Sends tugs, unless it blows. */
public final class TugDispatcher implements Dispatcher {
    private final Crew crew;
    private final WeatherReport weather;

    /** One for a crew. */
    public TugDispatcher(Crew crew, WeatherReport weather) {
        this.crew = crew;
        this.weather = weather;
    }

    @Override
    public String send() {
        return weather.wind() > 9 ? "stay" : crew.name();
    }

    void end() {
        // The crew goes home by itself.
    }
}
