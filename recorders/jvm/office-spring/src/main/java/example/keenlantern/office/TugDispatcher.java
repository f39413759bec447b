package example.keenlantern.office;

import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.stereotype.Component;

/** Sends tugs. */
@Component
class TugDispatcher {
    private final Crew crew;
    private final WeatherReport weather;

    TugDispatcher(Crew crew, @Qualifier("outer-bar") WeatherReport weather) {
        this.crew = crew;
        this.weather = weather;
    }

    String send() {
        return weather.wind() > 9 ? "stay" : crew.name();
    }
}
