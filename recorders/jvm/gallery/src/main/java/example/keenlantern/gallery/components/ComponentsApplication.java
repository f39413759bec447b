package example.keenlantern.gallery.components;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Primary;
import org.springframework.context.annotation.Profile;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Decorators among components: the primary one takes the next one by its name. */
@SpringBootApplication(proxyBeanMethods = false)
public class ComponentsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(ComponentsApplication.class, context -> Running.get(context, "/price", 3));
    }
}

interface Prices {
    int of(int weight);
}

@Component("listed")
class ListedPrices implements Prices {
    ListedPrices() {
        Counts.made(this);
    }

    @Override
    public int of(int weight) {
        return weight * 9;
    }
}

@Component("rounded")
class RoundedPrices implements Prices {
    private final Prices inner;

    RoundedPrices(@Qualifier("listed") Prices inner) {
        this.inner = inner;
        Counts.made(this);
    }

    @Override
    public int of(int weight) {
        return inner.of(weight) / 10 * 10;
    }
}

@Component
@Primary
class LoggedPrices implements Prices {
    private final Prices inner;

    LoggedPrices(@Qualifier("rounded") Prices inner) {
        this.inner = inner;
        Counts.made(this);
    }

    @Override
    public int of(int weight) {
        return inner.of(weight);
    }
}

@RestController
class Pricing {
    private final Prices prices;

    Pricing(Prices prices) {
        this.prices = prices;
        Counts.made(this);
    }

    @GetMapping("/price")
    int price() {
        return prices.of(123);
    }
}

@Component
@Profile("mistaken")
class Offers {
    Offers(@Qualifier("listed") Prices prices) {
        Counts.made(this);
    }
}
