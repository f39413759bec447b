package example.keenlantern.office;

import org.springframework.context.annotation.Profile;
import org.springframework.stereotype.Component;

/** The Bittern's. */
@Component
@Profile("!crew-waits-for-tug")
class TugCrew implements Crew {
    @Override
    public String name() {
        return "Bittern";
    }
}
