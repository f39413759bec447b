package example.keenlantern.office;

import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicInteger;
import org.springframework.scheduling.annotation.Async;
import org.springframework.stereotype.Component;

/** Files what was written, when there is no waiter. */
@Component
class Archive {
    private final AtomicInteger filed = new AtomicInteger();

    @Async
    CompletableFuture<Integer> file(String line) {
        return CompletableFuture.completedFuture(filed.addAndGet(line.length()));
    }
}
