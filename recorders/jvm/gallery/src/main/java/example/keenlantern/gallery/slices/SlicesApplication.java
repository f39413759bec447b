package example.keenlantern.gallery.slices;

import static org.springframework.test.web.servlet.request.MockMvcRequestBuilders.get;
import static org.springframework.test.web.servlet.result.MockMvcResultMatchers.content;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import jakarta.annotation.PreDestroy;
import org.springframework.beans.factory.annotation.Autowired;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.boot.test.autoconfigure.web.servlet.WebMvcTest;
import org.springframework.boot.test.context.TestConfiguration;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Import;
import org.springframework.stereotype.Repository;
import org.springframework.test.web.servlet.MockMvc;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** A test of one layer of an application, whose lower layer is replaced. */
@SpringBootApplication(proxyBeanMethods = false)
public class SlicesApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.test(running.mistaken() ? WithoutLayers.class : WithLayers.class);
    }
}

interface Strata {
    String top();
}

// The slice does not have it.
@Repository
class MeasuredStrata implements Strata {
    MeasuredStrata() {
        Counts.made(this);
    }

    @Override
    public String top() {
        return "slate";
    }
}

class DrawnStrata implements Strata {
    DrawnStrata() {
        Counts.made(this);
    }

    @Override
    public String top() {
        return "chalk";
    }

    @PreDestroy
    void end() {
        Counts.disposed(this);
    }
}

@RestController
class Coring {
    private final Strata strata;

    Coring(Strata strata) {
        this.strata = strata;
        Counts.made(this);
    }

    @GetMapping("/top")
    String top() {
        return strata.top();
    }
}

@TestConfiguration(proxyBeanMethods = false)
class Drawn {
    @Bean
    Strata strata() {
        return new DrawnStrata();
    }
}

@WebMvcTest(Coring.class)
@Import(Drawn.class)
class WithLayers implements Running.Test {
    @Autowired
    private MockMvc mvc;

    @Override
    public void run() throws Exception {
        for (int n = 0; n < 3; n++) mvc.perform(get("/top")).andExpect(content().string("chalk"));
    }
}

// Nothing stands in for the layer below.
@WebMvcTest(Coring.class)
class WithoutLayers implements Running.Test {
    @Override
    public void run() {}
}
