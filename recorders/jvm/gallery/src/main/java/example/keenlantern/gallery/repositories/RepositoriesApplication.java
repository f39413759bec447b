package example.keenlantern.gallery.repositories;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.persistence.Entity;
import jakarta.persistence.EntityManager;
import jakarta.persistence.GeneratedValue;
import jakarta.persistence.Id;
import jakarta.persistence.PersistenceContext;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.data.jpa.repository.JpaRepository;
import org.springframework.stereotype.Service;
import org.springframework.transaction.annotation.Transactional;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Repositories of the persistence API, and what they are used by. */
@SpringBootApplication(proxyBeanMethods = false)
public class RepositoriesApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.database(
                RepositoriesApplication.class,
                context -> Running.get(context, "/bells", 4),
                "spring.jpa.hibernate.ddl-auto=create-drop");
    }
}

@Entity
class Bell {
    @Id
    @GeneratedValue
    Long id;

    int weight;
}

interface Bells extends JpaRepository<Bell, Long> {
    long countByWeight(int weight);
}

@Service
class Register {
    private final Bells bells;

    @PersistenceContext
    private EntityManager entities;

    Register(Bells bells) {
        this.bells = bells;
        Counts.made(this);
    }

    @Transactional
    public long enter() {
        Bell bell = new Bell();
        bell.weight = 400;
        bells.save(bell);
        entities.flush();
        return bells.countByWeight(400);
    }
}

@RestController
class Registering {
    private final Register register;

    Registering(Register register) {
        this.register = register;
        Counts.made(this);
    }

    @GetMapping("/bells")
    long bells() {
        return register.enter();
    }
}
