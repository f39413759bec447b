package example.keenlantern.office;

import java.util.List;

/** Who is on duty. */
class PilotRoster {
    private final TideSource tides;

    PilotRoster(TideSource tides) {
        this.tides = tides;
    }

    List<String> on() {
        return List.of("Ames", "Bryce", "Coll");
    }

    boolean knowsTides() {
        return tides != null;
    }
}
