package example.keenlantern.record;

import java.util.concurrent.Callable;
import java.util.concurrent.ThreadLocalRandom;
import java.util.function.Supplier;

/**
 * The work that a thread is doing: the scope it is in, and its trace. It is taken along to another thread by {@link #enter} or one
 * of the wrappers.
 */
public final class Work {
    final Recorder recorder;
    final long scope;
    final String trace;
    final String kind;
    final long caller;

    Work(Recorder recorder, long scope, String trace, String kind, long caller) {
        this.recorder = recorder;
        this.scope = scope;
        this.trace = trace;
        this.kind = kind;
        this.caller = caller;
    }

    /** The scope's id; 0: none is known, {@link Recorder#UNRECORDED} or below: one that is left out. */
    public long scope() {
        return scope;
    }

    /** The W3C trace-id, null where there is none. */
    public String traceId() {
        return trace;
    }

    /** Such as "request", null outside of any. */
    public String kind() {
        return kind;
    }

    /** A traceparent for a request to another service, so that its scopes can be linked to this one's; null outside of any. */
    public String traceparent() {
        if (trace == null) return null;
        return "00-%s-%016x-01".formatted(trace, ThreadLocalRandom.current().nextLong(1, Long.MAX_VALUE));
    }

    /** The same work, in which an instance's method is running. */
    public Work calledBy(long inst) {
        return new Work(recorder, scope, trace, kind, inst);
    }

    /** Has this thread do this work, until what it returns is closed. */
    public Entered enter() {
        return new Entered(recorder, recorder.swap(this));
    }

    /** Wraps what another thread is to run. */
    public Runnable carry(Runnable run) {
        return () -> {
            try (Entered entered = enter()) {
                run.run();
            }
        };
    }

    /** Wraps what another thread is to call. */
    public <T> Callable<T> carryCall(Callable<T> call) {
        return () -> {
            try (Entered entered = enter()) {
                return call.call();
            }
        };
    }

    /** Wraps what another thread is to supply, a {@code CompletableFuture} for instance. */
    public <T> Supplier<T> carrySupply(Supplier<T> supplier) {
        return () -> {
            try (Entered entered = enter()) {
                return supplier.get();
            }
        };
    }

    /** That a thread is doing some work. It is closed by that thread. */
    public static final class Entered implements AutoCloseable {
        private final Recorder recorder;
        private final Work before;

        Entered(Recorder recorder, Work before) {
            this.recorder = recorder;
            this.before = before;
        }

        /** Has the thread do again what it did before. */
        @Override
        public void close() {
            recorder.swap(before);
        }
    }
}
