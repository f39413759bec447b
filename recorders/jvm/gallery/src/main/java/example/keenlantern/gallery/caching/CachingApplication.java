package example.keenlantern.gallery.caching;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.cache.annotation.CacheEvict;
import org.springframework.cache.annotation.Cacheable;
import org.springframework.cache.annotation.EnableCaching;
import org.springframework.context.annotation.Profile;
import org.springframework.context.annotation.Scope;
import org.springframework.stereotype.Component;
import org.springframework.stereotype.Service;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;

/** Cached methods. */
@SpringBootApplication(proxyBeanMethods = false)
@EnableCaching
public class CachingApplication {
    /** Runs it. */
    public static void run(Running running) throws Exception {
        running.web(CachingApplication.class, context -> Running.get(context, "/profile", 4));
    }
}

@Service
class Profiles {
    Profiles() {
        Counts.made(this);
    }

    @Cacheable("profiles")
    public String profile(int bell) {
        return "profile " + bell;
    }

    @CacheEvict("profiles")
    public void forget(int bell) {}
}

@RestController
class Profiling {
    private final Profiles profiles;

    Profiling(Profiles profiles) {
        this.profiles = profiles;
        Counts.made(this);
    }

    @GetMapping("/profile")
    String profile() {
        profiles.forget(1);
        return profiles.profile(1) + profiles.profile(2);
    }
}

// A prototype that has to be closed, in a singleton.
@Component
@Scope("prototype")
@Profile("mistaken")
class Lathe implements AutoCloseable {
    Lathe() {
        Counts.made(this);
    }

    @Override
    public void close() {}
}

@Service
@Profile("mistaken")
class Turner {
    Turner(Lathe lathe) {
        Counts.made(this);
    }
}
