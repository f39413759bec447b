package example.keenlantern.gallery.asynchronous;

import example.keenlantern.gallery.Counts;
import example.keenlantern.gallery.Running;
import java.util.concurrent.CompletableFuture;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.scheduling.annotation.Async;
import org.springframework.scheduling.annotation.EnableAsync;
import org.springframework.stereotype.Component;
import org.springframework.stereotype.Service;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.annotation.RequestScope;

/** Methods that run on another thread, for which a request has no beans. */
@SpringBootApplication(proxyBeanMethods = false)
@EnableAsync
public class AsynchronousApplication {
    static boolean mistaken;

    /** Runs it. */
    public static void run(Running running) throws Exception {
        mistaken = running.mistaken();
        running.web(AsynchronousApplication.class, context -> Running.get(context, "/cool", 4));
    }
}

@Component
@RequestScope
class Order {
    Order() {
        Counts.made(this);
    }

    int weight() {
        return 400;
    }
}

@Service
class Cooling {
    private final Order order;

    Cooling(Order order) {
        this.order = order;
        Counts.made(this);
    }

    @Async
    public CompletableFuture<Integer> cool(int weight) {
        if (AsynchronousApplication.mistaken) {
            try {
                return CompletableFuture.completedFuture(order.weight());
            } catch (RuntimeException e) {
                return CompletableFuture.completedFuture(0);
            }
        }
        return CompletableFuture.completedFuture(weight / 2);
    }
}

@RestController
class Pit {
    private final Cooling cooling;
    private final Order order;

    Pit(Cooling cooling, Order order) {
        this.cooling = cooling;
        this.order = order;
        Counts.made(this);
    }

    @GetMapping("/cool")
    int cool() {
        return cooling.cool(order.weight()).join();
    }
}
