package example.keenlantern.harbour.tugs;

import example.keenlantern.harbour.api.Crew;
import example.keenlantern.harbour.api.Dispatcher;

/** The Bittern's crew. */
public final class TugCrew implements Crew {
    private Dispatcher dispatcher; // of a crew that asks who sends it

    /** One that waits. */
    public TugCrew() {}

    void sentBy(Dispatcher dispatcher) {
        this.dispatcher = dispatcher;
    }

    @Override
    public String name() {
        return dispatcher == null ? "Bittern" : "Bittern, sent";
    }
}
