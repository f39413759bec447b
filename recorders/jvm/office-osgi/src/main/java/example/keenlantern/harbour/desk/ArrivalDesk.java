package example.keenlantern.harbour.desk;

import example.keenlantern.harbour.api.Dispatcher;
import example.keenlantern.harbour.api.LogPage;
import example.keenlantern.harbour.api.Ticket;
import example.keenlantern.harbour.api.WeatherReport;

/** Takes arrivals. */
public final class ArrivalDesk {
    private final Dispatcher tugs;
    private final LogPage page;
    private final Ticket ticket;
    private volatile WeatherReport weather; // comes and goes

    /** A desk with a page and its own ticket. */
    public ArrivalDesk(Dispatcher tugs, LogPage page, Ticket ticket) {
        this.tugs = tugs;
        this.page = page;
        this.ticket = ticket;
    }

    void weather(WeatherReport report) {
        weather = report;
    }

    void noWeather(WeatherReport report) {
        if (weather == report) weather = null;
    }

    /** Takes a ship in. */
    public String take(String ship) {
        WeatherReport report = weather;
        page.write(ship + " " + ticket.number() + " " + (report == null ? "no report" : report.wind()));
        return tugs.send();
    }

    void end() {
        // No boat arrives any more.
    }
}
