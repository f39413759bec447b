package example.keenlantern.gallery.transactions;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.context.annotation.Profile;
import org.springframework.jdbc.core.JdbcTemplate;
import org.springframework.stereotype.Service;
import org.springframework.transaction.annotation.Propagation;
import org.springframework.transaction.annotation.Transactional;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Transactional services before a database. */
@SpringBootApplication(proxyBeanMethods = false)
public class TransactionsApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        if (running.mistaken()) running.refused(TransactionsApplication.class);
        else
            running.database(
                    TransactionsApplication.class,
                    context -> {
                        context.getBean(JdbcTemplate.class).execute("create table bell (weight int)");
                        Running.get(context, "/sell", 4);
                    },
                    "spring.jpa.hibernate.ddl-auto=none");
    }
}

@Service
@Profile("!mistaken")
class Ledger {
    private final JdbcTemplate jdbc;

    Ledger(JdbcTemplate jdbc) {
        this.jdbc = jdbc;
        Counts.made(this);
    }

    @Transactional(propagation = Propagation.MANDATORY)
    public void enter(int weight) {
        jdbc.update("insert into bell values (?)", weight);
    }
}

@Service
@Profile("!mistaken")
class Sale {
    private final Ledger ledger;

    Sale(Ledger ledger) {
        this.ledger = ledger;
        Counts.made(this);
    }

    @Transactional
    public void sell() {
        ledger.enter(400);
    }
}

@RestController
@Profile("!mistaken")
class Selling {
    private final Sale sale;

    Selling(Sale sale) {
        this.sale = sale;
        Counts.made(this);
    }

    @GetMapping("/sell")
    String sell() {
        sale.sell();
        return "sold";
    }
}

// Two that need each other by their constructors.
@Service
@Profile("mistaken")
class Debit {
    Debit(Credit credit) {
        Counts.made(this);
    }
}

@Service
@Profile("mistaken")
class Credit {
    Credit(Debit debit) {
        Counts.made(this);
    }
}
