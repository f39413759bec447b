package example.keenlantern.record;

import java.io.BufferedOutputStream;
import java.io.IOException;
import java.io.OutputStream;
import java.nio.file.FileAlreadyExistsException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.FileAttribute;
import java.nio.file.attribute.PosixFilePermissions;
import java.time.Duration;
import java.util.ArrayDeque;
import java.util.Map;
import java.util.concurrent.ThreadLocalRandom;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.Condition;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;

/** Delivers batches in their order, each until it is accepted: its own thread. */
final class Delivery implements Runnable {
    private static final int FIRST_RETRY = 100; // ms
    private static final int LAST_RETRY = 5000; // ms
    private static final int LAST_TRIES = 5; // how often a batch is tried while ending

    /** A part of a stream that waits to be sent. */
    private record Batch(Stream of, byte[] packed) {}

    private final Config config;
    private final int most;
    private final Consumer<Throwable> trouble;
    private final Http http;
    private final OutputStream output;
    private final boolean own; // it made the output
    private final Thread thread = new Thread(this, "keenlantern-sender");

    private final ReentrantLock lock = new ReentrantLock();
    private final Condition changed = lock.newCondition();
    private final ArrayDeque<Batch> queue = new ArrayDeque<>();
    private long held; // bytes of packed batches
    private long givenUp; // bytes of those that were refused
    private boolean ending;
    private volatile boolean over; // what is on its way is given up
    private volatile long delivered;
    private boolean broken; // the output

    Delivery(Config config, int most, Consumer<Throwable> trouble) throws IOException {
        this.config = config;
        this.most = most;
        this.trouble = trouble;
        http = config.service == null ? null : new Http(config);
        own = config.file != null;
        output = own ? create(config.file) : config.output;
        thread.setDaemon(true);
    }

    // An existing file is not overwritten, and only its owner can read it.
    private static OutputStream create(Path file) throws IOException {
        String name = file.getFileName().toString();
        if (name.endsWith(".zst"))
            throw new IOException("record to " + file + ": only .gz is compressed here; choose such a name");
        FileAttribute<?>[] mode =
                file.getFileSystem().supportedFileAttributeViews().contains("posix")
                        ? new FileAttribute<?>[] {
                            PosixFilePermissions.asFileAttribute(PosixFilePermissions.fromString("rw-------"))
                        }
                        : new FileAttribute<?>[0];
        try {
            Files.createFile(file, mode);
        } catch (FileAlreadyExistsException e) {
            throw new IOException("record to " + file + ": the file is there already; choose another name", e);
        }
        OutputStream to = Files.newOutputStream(file, StandardOpenOption.WRITE);
        return name.endsWith(".gz") ? new Pack.FastGzip(to) : new BufferedOutputStream(to);
    }

    void start() {
        thread.start();
    }

    long delivered() {
        return delivered;
    }

    /** Whether there is room for another batch. */
    boolean room() {
        lock.lock();
        try {
            return held < most;
        } finally {
            lock.unlock();
        }
    }

    /** Whether there is plenty of it. */
    boolean calm() {
        lock.lock();
        try {
            return held < most / 2;
        } finally {
            lock.unlock();
        }
    }

    /** Whether batches are for the service: a file is compressed as a whole. */
    boolean sends() {
        return http != null;
    }

    void add(Stream of, byte[] packed) {
        lock.lock();
        try {
            queue.add(new Batch(of, packed));
            held += packed.length;
            changed.signalAll();
        } finally {
            lock.unlock();
        }
    }

    @Override
    public void run() {
        try {
            for (Batch batch = next(); batch != null; batch = next()) {
                boolean taken = http == null ? write(batch) : send(batch);
                lock.lock();
                try {
                    queue.remove();
                    if (taken) {
                        held -= batch.packed.length; // what was refused stays, to be reported at the end
                        delivered++;
                    }
                    changed.signalAll();
                } finally {
                    lock.unlock();
                }
            }
            if (own) output.close();
        } catch (IOException e) {
            trouble.accept(e);
        }
    }

    private Batch next() {
        lock.lock();
        try {
            while (queue.isEmpty()) {
                if (ending) return null;
                changed.await();
            }
            return queue.peek();
        } catch (InterruptedException e) {
            return null;
        } finally {
            lock.unlock();
        }
    }

    private boolean write(Batch batch) {
        if (broken) return false;
        try {
            output.write(batch.packed);
            output.flush(); // so that readers of the file see everything
            return true;
        } catch (IOException e) {
            broken = true;
            trouble.accept(new IOException("write the recording: " + e.getMessage(), e));
            return false;
        }
    }

    private boolean send(Batch batch) {
        if (batch.of.refused) return giveUp(batch);
        long wait = FIRST_RETRY;
        for (int tries = 0; ; tries++) {
            long after = 0;
            int n = batch.of.sent + 1;
            try {
                String path = "/api/v1/streams/" + batch.of.id + "/batches/" + n;
                Http.Answer answer = http.put(path, batch.packed, "application/x-ndjson", config.timeout, 4096);
                if (answer.status() == 429 || answer.status() >= 500) {
                    after = Math.min(LAST_RETRY, 1000 * answer.retryAfter());
                    throw new IOException(answer.status() + ": " + answer.body());
                }
                // Only a problem document of the service is final: the error page of a proxy may be temporary.
                if (answer.status() >= 400 && answer.kind().equals("application/problem+json")) {
                    batch.of.refused = true; // a later stream may still be taken
                    throw new IOException(answer.status() + ": " + answer.body());
                }
                after = LAST_RETRY;
                answer.ofService();
                acknowledged(answer, batch.of.id, n);
                batch.of.sent++;
                return true;
            } catch (IOException e) {
                trouble.accept(new IOException("send batch " + n + " of the recording: " + e.getMessage(), e));
                if (batch.of.refused || over || stopped() && tries >= LAST_TRIES) {
                    batch.of.refused = true;
                    return giveUp(batch);
                }
            }
            rest(Math.max(jitter(wait), after));
            wait = Math.min(2 * wait, LAST_RETRY);
        }
    }

    // A stream that was refused has an end here: what results from it later takes up no room, and counts as not taken.
    private boolean giveUp(Batch batch) {
        lock.lock();
        try {
            held -= batch.packed.length;
            givenUp += batch.packed.length;
        } finally {
            lock.unlock();
        }
        return false;
    }

    // Only the service's own word that it has just this batch counts: a proxy's page is no acknowledgement.
    private void acknowledged(Http.Answer answer, String stream, int n) throws IOException {
        try {
            Map<String, Object> said = Json.object(answer.body());
            if (stream.equals(said.get("stream")) && said.get("batch") instanceof Double batch && batch == n) return;
        } catch (IllegalArgumentException e) {
            // It is none.
        }
        throw new IOException("what answers at " + config.service
                + " does not acknowledge the batch; is that a Keen Lantern service?");
    }

    private boolean stopped() {
        lock.lock();
        try {
            return ending;
        } finally {
            lock.unlock();
        }
    }

    // Batches that come meanwhile do not cut it short: only the end does.
    private void rest(long ms) {
        lock.lock();
        try {
            boolean last = ending;
            long left = TimeUnit.MILLISECONDS.toNanos(last ? Math.min(ms, 1000) : ms);
            while (left > 0 && !over && ending == last) left = changed.awaitNanos(left);
        } catch (InterruptedException e) {
            over = true;
        } finally {
            lock.unlock();
        }
    }

    /** Spreads a wait over half of its length, so that many recorders do not try again at the same moment. */
    static long jitter(long wait) {
        return wait / 2 + ThreadLocalRandom.current().nextLong(wait);
    }

    /** Waits until everything has been delivered, and returns whether it was. */
    boolean idle(Duration within) {
        long left = within.toNanos();
        lock.lock();
        try {
            while (!queue.isEmpty() && left > 0) left = changed.awaitNanos(left);
            return queue.isEmpty();
        } catch (InterruptedException e) {
            Thread.currentThread().interrupt();
            return false;
        } finally {
            lock.unlock();
        }
    }

    /**
     * Ends when all has been delivered, or the time is over.
     *
     * @throws IOException where something was not taken
     */
    void end(Duration within) throws IOException {
        lock.lock();
        try {
            ending = true;
            changed.signalAll();
        } finally {
            lock.unlock();
        }
        boolean late = false;
        try {
            thread.join(Math.max(1, within.toMillis()));
            late = thread.isAlive();
            if (late) {
                over = true;
                thread.interrupt();
            }
        } catch (InterruptedException e) {
            Thread.currentThread().interrupt();
        }
        long rest;
        lock.lock();
        try {
            rest = held + givenUp;
        } finally {
            lock.unlock();
        }
        if (rest > 0)
            throw new IOException("deliver the rest of the recording: " + rest + " bytes were "
                    + (late ? "not taken in time" : "refused"));
    }
}
