package example.keenlantern.record;

import java.time.Instant;
import java.util.HashSet;
import java.util.Set;
import java.util.UUID;

/** A stretch of recording: from its hello to its bye. */
final class Stream {
    final String id = UUID.randomUUID().toString();
    final Setting setting;
    final long time; // ns, 0: for ever
    final long began = Recorder.now();
    final Instant start = Instant.now();
    final long firstScope;
    final long firstInst;
    final Set<Long> told; // older instances that it knows
    final Set<Long> strays =
            new HashSet<>(); // scopes and instances of it that were noted when it had ended: the writer's

    // Of delivery.
    int sent; // batches accepted: the sender's
    volatile boolean refused;
    volatile long bytes;

    Stream(Setting setting, long firstScope, long firstInst, Set<Long> told) {
        this.setting = setting;
        this.time = setting.time().toNanos();
        this.firstScope = firstScope;
        this.firstInst = firstInst;
        this.told = told;
    }

    double share() {
        return setting.share() == 0 ? 1 : setting.share();
    }

    long weight() {
        return Math.round(1 / share());
    }

    /** Whether one of its limits has been reached. */
    boolean over() {
        return setting.bytes() > 0 && bytes >= setting.bytes() || time > 0 && Recorder.now() - began >= time;
    }

    boolean knows(long inst) {
        return inst >= firstInst || told.contains(inst);
    }
}
