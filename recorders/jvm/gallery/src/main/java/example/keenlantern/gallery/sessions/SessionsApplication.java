package example.keenlantern.gallery.sessions;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import java.net.http.HttpClient;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.stereotype.Component;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.WebApplicationContext;
import org.springframework.web.context.annotation.RequestScope;
import org.springframework.web.context.annotation.SessionScope;

/** Beans of a session, which several requests share, and which are alive when the application is shut down. */
@SpringBootApplication(proxyBeanMethods = false)
public class SessionsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(SessionsApplication.class, context -> {
            HttpClient one = Running.visitor();
            HttpClient other = Running.visitor();
            for (int n = 0; n < 3; n++) {
                Running.get(context, one, "/order");
                Running.get(context, other, "/order");
            }
        });
    }
}

@Component
@SessionScope
class Basket {
    private final ObjectProvider<Slip> slips;
    private int bells;

    Basket(ObjectProvider<Slip> slips) {
        this.slips = slips;
        Counts.made(this);
    }

    int add() {
        return bells += slips.getObject().number();
    }
}

@Component
@Scope(WebApplicationContext.SCOPE_REQUEST)
class Slip {
    Slip() {
        Counts.made(this);
    }

    int number() {
        return 1;
    }
}

@Component
@RequestScope
class Desk {
    private final Basket basket;
    private final ObjectProvider<Wallet> wallets;

    Desk(Basket basket, ObjectProvider<Wallet> wallets) {
        this.basket = basket;
        this.wallets = wallets;
        Counts.made(this);
    }

    int order() {
        Wallet wallet = wallets.getIfAvailable();
        return basket.add() + (wallet == null ? 0 : wallet.number());
    }
}

@RestController
class Ordering {
    private final Desk desk;

    Ordering(Desk desk) {
        this.desk = desk;
        Counts.made(this);
    }

    @GetMapping("/order")
    int order() {
        return desk.order();
    }
}

// It keeps the slip of the request in which it is built.
@Component
@SessionScope
@Profile("mistaken")
class Wallet {
    private final Slip slip;

    Wallet(Slip slip) {
        this.slip = slip;
        Counts.made(this);
    }

    int number() {
        return slip.number();
    }
}
