package example.keenlantern.office;

import org.springframework.context.annotation.Profile;
import org.springframework.stereotype.Component;

/** The crew wanted to know which tug it is for, and asked who sends it. */
@Component
@Profile("crew-waits-for-tug")
class CrewThatAsks implements Crew {
    private final TugDispatcher dispatcher;

    CrewThatAsks(TugDispatcher dispatcher) {
        this.dispatcher = dispatcher;
    }

    @Override
    public String name() {
        return dispatcher == null ? "" : "Bittern";
    }
}
