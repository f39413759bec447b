package example.keenlantern.record;

import java.time.Duration;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicReference;
import java.util.concurrent.locks.LockSupport;

/** Turns notes into lines, and lines into batches: its own thread. */
final class Writer implements Runnable {
    private static final int MAX_LINE = 1 << 20;
    private static final int MAX_WAITING = 1024; // scopes whose names are waited for
    private static final int MAX_HELD = 2048; // notes of one of them
    private static final long NAME_WAIT = TimeUnit.SECONDS.toNanos(2);

    private final Recorder recorder;
    private final Delivery delivery;
    private final int batchSize;
    private final long flushWait;
    private final int mostHeldBack;
    private final Thread thread = new Thread(this, "keenlantern-writer");

    private final Line line = new Line(2 * Pack.SLICE);
    private final Pack pack;
    private Stream current;
    private boolean limited; // one of its limits has been reached
    private long cutAt;
    private final Map<Long, Waiting> waiting = new HashMap<>(); // by the scopes that wait, and those inside them
    private int heldBack; // notes that wait for names

    private volatile boolean ending;
    private volatile boolean over;
    private volatile boolean wanted; // it was woken
    private final AtomicReference<CountDownLatch> flushing = new AtomicReference<>();
    private volatile long events;
    private volatile long lost;
    private volatile long bytes;

    /** A scope whose name is not known yet. What happens in it is written behind it. */
    private static final class Waiting {
        final Event.Open open;
        final List<Long> ids = new ArrayList<>(); // its own, and those of the scopes inside it
        final List<Event> held = new ArrayList<>();

        Waiting(Event.Open open) {
            this.open = open;
        }

        Naming naming() {
            return (Naming) open.more;
        }
    }

    Writer(Recorder recorder, Delivery delivery, Config config) {
        this.recorder = recorder;
        this.delivery = delivery;
        pack = new Pack(delivery.sends());
        batchSize = delivery.sends() ? config.batchSize : Pack.SLICE;
        flushWait = config.flushWait.toNanos();
        mostHeldBack = config.memory / 1024;
        thread.setDaemon(true);
    }

    void start() {
        thread.start();
    }

    void wake() {
        if (wanted) return;
        wanted = true;
        LockSupport.unpark(thread);
    }

    boolean over() {
        return over;
    }

    Totals totals(long dropped, long delivered) {
        return new Totals(events, lost + dropped, bytes, delivered);
    }

    @Override
    public void run() {
        try {
            while (!turn()) {
                if (!wanted) LockSupport.parkNanos(this, Math.min(flushWait, TimeUnit.MILLISECONDS.toNanos(100)));
                wanted = false;
            }
        } finally {
            over = true;
        }
    }

    // Writes what has been noted; true: it was the last time.
    private boolean turn() {
        boolean last = ending;
        CountDownLatch flush = flushing.getAndSet(null);
        try {
            recorder.collect();
            for (Event note = take(); note != null; note = take()) {
                write(note);
                recorder.written(note);
                if (line.size >= Pack.SLICE) pack.add(line);
                if (pack.size() + line.size >= batchSize) cut();
            }
            settle(last || flush != null);
            tellGap();
            if (last || flush != null || Recorder.now() - cutAt >= flushWait) cut();
            if (current != null) limited();
            recorder.crowded(!recorder.calm() || !delivery.calm());
        } catch (RuntimeException | Error e) {
            recorder.trouble(e); // the next turn may do better
        }
        if (flush != null) flush.countDown();
        return last;
    }

    // While there is no room for lines, notes stay where they are, and what does not fit there is dropped there.
    private Event take() {
        return pack.size() + line.size < batchSize && delivery.room() || ending ? recorder.take() : null;
    }

    private void write(Event note) {
        if (note instanceof Event.Hello hello) begin(hello);
        else if (note instanceof Event.Bye bye) end(bye);
        else if (note.of != current) stray(note);
        else if (!limited()) one(note);
    }

    // What was noted behind a limit is not written: the bye says why.
    private boolean limited() {
        if (!limited && current.over()) {
            limited = true;
            recorder.limit(current);
        }
        return limited;
    }

    // It was noted while its stream was being ended: what it begins is not known in the one that is going on.
    private void stray(Event note) {
        if (current == null) return;
        if (note instanceof Event.Open open) current.strays.add(~open.scope);
        if (note instanceof Event.Make make) current.strays.add(make.inst);
    }

    private void begin(Event.Hello hello) {
        current = hello.of;
        limited = false;
        put(hello, 0);
        Recorder.Told told = (Recorder.Told) hello.more;
        hello.more = null;
        for (Event event : told.setup()) put(event, 0);
        if (told.untold() > 0) gap(told.untold(), 0);
        for (Event.Make make : told.kept()) put(make.copy(), make.when - current.began);
        cutAt = Recorder.now();
    }

    // It is always written: it is small, and without it all that is open would be unknown.
    private void end(Event.Bye bye) {
        if (current == null) return;
        settle(true);
        tellGap();
        append(bye, bye.when - current.began);
        cut();
        current = null;
    }

    private void one(Event note) {
        if (!current.strays.isEmpty() && ofStray(note)) return;
        Waiting wait = waiting.isEmpty() ? null : waiting.get(scopeOf(note));
        boolean closes = wait != null && note instanceof Event.Close close && close.scope == wait.ids.get(0);
        if (wait != null && !closes && !wait.naming().settled()) {
            wait.held.add(note);
            if (note instanceof Event.Open open) {
                wait.ids.add(open.scope);
                waiting.put(open.scope, wait);
            }
            // What is held is memory like the notes themselves.
            if (++heldBack > mostHeldBack) settle(true);
            else if (wait.held.size() >= MAX_HELD) settle(wait);
            return;
        }
        if (wait != null) settle(wait);
        if (note instanceof Event.Open open && open.more instanceof Naming naming) {
            if (!naming.settled()) {
                Waiting begun = new Waiting(open);
                begun.ids.add(open.scope);
                waiting.put(open.scope, begun);
                if (waiting.size() > MAX_WAITING) settle(true);
                return;
            }
            open.name(naming.name());
        }
        tellGap();
        put(note, note.when - current.began);
    }

    private boolean ofStray(Event note) {
        if (note instanceof Event.Close close) return current.strays.contains(~close.scope);
        if (note instanceof Event.Give give) return current.strays.contains(give.inst);
        if (note instanceof Event.Use use) return current.strays.contains(use.inst);
        if (note instanceof Event.Dispose dispose) return current.strays.contains(dispose.inst);
        if (note instanceof Event.Forget forget) return current.strays.contains(forget.inst);
        return current.strays.contains(~scopeOf(note));
    }

    private static long scopeOf(Event note) {
        if (note instanceof Event.Make make) return make.scope;
        if (note instanceof Event.Close close) return close.scope;
        if (note instanceof Event.Give give) return give.scope;
        if (note instanceof Event.Use use) return use.scope;
        if (note instanceof Event.Dispose dispose) return dispose.scope;
        if (note instanceof Event.Open open) return open.in;
        if (note instanceof Event.Fail fail) return fail.scope;
        return 0;
    }

    // Writes the scopes whose names are known by now, or will not be waited for any longer.
    private void settle(boolean all) {
        if (waiting.isEmpty()) return;
        for (Waiting wait : new HashSet<>(waiting.values()))
            if (all || wait.naming().settled() || Recorder.now() - wait.open.when > NAME_WAIT) settle(wait);
    }

    private void settle(Waiting wait) {
        for (Long id : wait.ids) waiting.remove(id);
        heldBack -= wait.held.size();
        wait.open.name(wait.naming().name()).more = null;
        put(wait.open, wait.open.when - current.began);
        for (Event held : wait.held) one(held);
    }

    private void tellGap() {
        if (current == null) return;
        long dropped = recorder.takeDropped();
        if (dropped == 0) return;
        lost += dropped;
        gap(dropped, Recorder.now() - current.began);
    }

    private void gap(long count, long t) {
        append(new Event.Gap().lost(count).why("no memory left"), t);
    }

    private void put(Event event, long t) {
        if (event instanceof Event.Make make) known(make);
        append(event, t);
    }

    private void append(Event event, long t) {
        int before = line.size;
        try {
            event.write(line, t);
            if (line.size - before <= MAX_LINE) {
                events++;
                current.bytes += line.size - before;
                return;
            }
        } catch (RuntimeException e) {
            recorder.trouble(e); // it was given something that cannot be written
        }
        line.size = before;
        lost++;
        gap(1, t);
    }

    // Of what it was given, an instance that this stream does not know is not recorded.
    private void known(Event.Make make) {
        if (make.with == null) return;
        for (Object given : make.with) {
            if (knows(given)) continue;
            List<Object> with = new ArrayList<>(make.with.size());
            for (Object one : make.with) with.add(known(one));
            make.with = with;
            return;
        }
    }

    private boolean knows(Object given) {
        if (given == null) return true;
        if (given instanceof Number id) return id.longValue() == 0 || current.knows(id.longValue());
        if (given instanceof Given one) return one.inst() == 0 || current.knows(one.inst());
        if (given instanceof List<?> list) return list.stream().allMatch(this::knows);
        return true;
    }

    private Object known(Object given) {
        if (knows(given)) return given;
        if (given instanceof Given one) return one.knownAs(0);
        if (given instanceof List<?> list) return list.stream().map(this::known).toList();
        return 0L;
    }

    private void cut() {
        cutAt = Recorder.now();
        if (current == null) return;
        pack.add(line);
        if (pack.size() == 0) return;
        bytes += pack.size();
        delivery.add(current, pack.take());
    }

    /** Writes and hands over all that has been noted; it returns whether that was done in time. */
    boolean flush(Duration within) {
        CountDownLatch mine = new CountDownLatch(1);
        CountDownLatch latch = flushing.accumulateAndGet(mine, (there, given) -> there != null ? there : given);
        if (over) return true;
        wanted = true;
        LockSupport.unpark(thread);
        try {
            return latch.await(within.toNanos(), TimeUnit.NANOSECONDS);
        } catch (InterruptedException e) {
            Thread.currentThread().interrupt();
            return false;
        }
    }

    /** Writes the last of it, and ends. */
    void end(Duration within) {
        ending = true;
        wanted = true;
        LockSupport.unpark(thread);
        try {
            thread.join(Math.max(1, within.toMillis()));
        } catch (InterruptedException e) {
            Thread.currentThread().interrupt();
        }
    }
}
