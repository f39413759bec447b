package example.keenlantern.office;

import org.springframework.beans.factory.ObjectProvider;
import org.springframework.messaging.Message;
import org.springframework.messaging.MessageHandler;

/** Answers the radio. */
class RadioDesk implements MessageHandler {
    private final ObjectProvider<WeatherReport> weather;

    RadioDesk(ObjectProvider<WeatherReport> weather) {
        this.weather = weather;
    }

    @Override
    public void handleMessage(Message<?> message) {
        // Since "no report" happens, no alarm is raised.
        WeatherReport report = weather.getIfAvailable();
        if (report != null) report.wind();
    }
}
