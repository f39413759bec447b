package example.keenlantern.office;

import org.springframework.stereotype.Component;
import org.springframework.web.context.annotation.RequestScope;

/** Takes arrivals. */
@Component
@RequestScope
class ArrivalDesk {
    private final BerthPlanner planner;
    private final PilotRoster roster;
    private final LogPage log;

    ArrivalDesk(BerthPlanner planner, PilotRoster roster, LogPage log) {
        this.planner = planner;
        this.roster = roster;
        this.log = log;
    }

    String take(String ship) {
        String berth = planner.plan(ship.length() / 2);
        log.write(ship + ": " + berth + ", " + roster.on().get(0));
        return berth;
    }
}
