package example.keenlantern.record;

import java.io.IOException;
import java.lang.System.Logger.Level;
import java.net.InetAddress;
import java.net.UnknownHostException;
import java.time.Duration;
import java.time.format.DateTimeFormatter;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.UUID;
import java.util.concurrent.Callable;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CopyOnWriteArrayList;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.ThreadLocalRandom;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.concurrent.atomic.AtomicLong;
import java.util.concurrent.atomic.LongAdder;
import java.util.concurrent.locks.LockSupport;
import java.util.concurrent.locks.ReentrantLock;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/**
 * Records one process. Calls on it may come from any thread; they do not wait for the service and throw nothing. What happens is
 * noted, and written and sent by threads of the recorder's own, which keep no process alive.
 */
public final class Recorder implements AutoCloseable {
    /** The scope of work that is not recorded: recording is off, or the scope was not sampled. */
    public static final long UNRECORDED = -3;

    private static final long DROPPED = -4; // unrecorded for want of memory: what happens in it is counted
    private static final String LIMIT_REACHED = "recording reached its limit";
    private static final System.Logger LOG = System.getLogger("example.keenlantern.record");
    private static final long ORIGIN = System.nanoTime() - 1;
    private static final Pattern TRACEPARENT = Pattern.compile("[0-9a-f]{2}-(?!0{32})([0-9a-f]{32})-.*");

    private static volatile Recorder installed;

    private final Config config;
    private final String id = UUID.randomUUID().toString();
    // A place of each thread's, of one Work. It stays, since rebuilding it costs as much as all else that a request
    // costs while
    // recording is off; its class is the JDK's, so that it keeps no application's class loader alive.
    private final ThreadLocal<Object[]> working = ThreadLocal.withInitial(() -> new Object[1]);
    private final Work idle = new Work(this, 0, null, null, 0);
    private final Instances instances;
    private final List<String> sees;

    private volatile Stream now;
    private final AtomicLong scopes = new AtomicLong();
    private final AtomicLong insts = new AtomicLong();

    // What is rare, and what outlives scopes, is kept to be written when recording begins. One lock is for all of
    // it.
    private final ReentrantLock rare = new ReentrantLock();
    private final Map<Object, Event> setup =
            new LinkedHashMap<>(); // registrations by their ids, containers by themselves
    private final Map<Long, Event.Make> kept = new LinkedHashMap<>();
    private int remembered; // bytes of both
    private long untold;
    private long regs;
    private long containers;
    private boolean rooted;
    private final Set<Long> roots = ConcurrentHashMap.newKeySet();
    private volatile boolean[] lasting = new boolean[64]; // by registration
    private boolean ended;

    private final Notes notes = new Notes();
    private final AtomicLong noted = new AtomicLong(); // bytes of notes
    private final LongAdder dropped = new LongAdder();
    private volatile boolean crowded;
    private final int mostNotes;
    private final int mostRemembered;

    private final Writer writer;
    private final Delivery delivery;
    private final Orders orders;
    private final Thread exit;
    private final List<Switched> switched = new CopyOnWriteArrayList<>();
    private volatile long warned;
    private final Unregistered unregistered;
    private final Keys keys = new Keys();
    private volatile boolean closing; // it is about to end
    private final AtomicInteger attached = new AtomicInteger(); // containers that are open

    /** What was written when recording began, for the writer. */
    record Told(List<Event> setup, List<Event.Make> kept, long untold) {}

    Recorder(Config config) throws IOException {
        this.config = config;
        unregistered = new Unregistered(config.hideUnregistered);
        int memory = config.memory;
        mostNotes = memory / 8;
        mostRemembered = memory / 4;
        instances = new Instances(memory / 2 / Instances.BYTES);
        roots.add(0L);
        sees = config.sees != null ? config.sees : seen(config.uses.contains("*"));
        delivery = new Delivery(config, memory / 8, this::trouble);
        writer = new Writer(this, delivery, config);
        writer.start();
        delivery.start();
        orders = config.service == null || config.alone ? null : new Orders(this, config);
        if (!config.off) set(config.setting);
        if (orders != null) orders.start();
        exit = config.exitHook ? new Thread(this::exit, "keenlantern-exit") : null;
        if (exit != null) Runtime.getRuntime().addShutdownHook(exit);
    }

    private static List<String> seen(boolean uses) {
        return uses
                ? List.of("with", "dispose", "closes", "fail", "use", "dispose-code")
                : List.of("with", "dispose", "closes", "fail");
    }

    /**
     * Has applications that are started from now on in this process be recorded by a recorder, without their own settings; null:
     * no longer.
     */
    public static void install(Recorder recorder) {
        installed = recorder;
    }

    /** The recorder that applications are to be recorded by, null for none. */
    public static Recorder installed() {
        return installed;
    }

    /** Begins to set up a recorder for an application of this name. */
    public static Config forApplication(String name) {
        return new Config(name);
    }

    /** The time in ns, evenly: what {@code when} is counted by. */
    public static long now() {
        return System.nanoTime() - ORIGIN;
    }

    /** The id of the stream that is being written, "" while recording is off. */
    public String stream() {
        Stream now = this.now;
        return now == null ? "" : now.id;
    }

    /** Whether anything is recorded at the moment. */
    public boolean on() {
        return now != null;
    }

    /** How it records at the moment. */
    public Setting setting() {
        Stream now = this.now;
        return now == null ? Setting.OFF : now.setting;
    }

    /** What it has done so far. */
    public Totals totals() {
        return writer.totals(dropped.sum(), delivery.delivered());
    }

    /**
     * Switches recording on or off, or changes how it is done. Switching on begins a new stream, which begins with what is
     * registered, and what is alive and outlives scopes; scopes that are open already are left out.
     */
    public void set(Setting to) {
        set(to, "recording was switched off");
    }

    /**
     * Has something be done each time before and after recording begins, and each time when it has ended: adapters put away what they watch
     * with while there is nothing to record. What is thrown is reported as a problem. Running what is returned ends it.
     */
    public Runnable whenSwitched(Runnable begins, Runnable ended) {
        Switched one = new Switched(begins, ended);
        switched.add(one);
        return () -> switched.remove(one);
    }

    private record Switched(Runnable begins, Runnable ended) {}

    private void quietly(Runnable run) {
        try {
            run.run();
        } catch (RuntimeException | LinkageError e) {
            trouble(e);
        }
    }

    private void set(Setting to, String why) {
        boolean wasOn = on();
        if (to.on() && !wasOn) for (Switched one : switched) quietly(one.begins);
        switchTo(to, why);
        // A note that another thread dropped meanwhile, since recording was off, is restored.
        if (!wasOn && on()) for (Switched one : switched) quietly(one.begins);
        if (wasOn && !on()) for (Switched one : switched) quietly(one.ended);
    }

    private void switchTo(Setting to, String why) {
        rare.lock();
        try {
            Stream was = now;
            if (ended || !to.on() && was == null || was != null && was.setting.equals(to)) return;
            now = null;
            if (was != null) control(new Event.Bye().why(to.on() ? "recording goes on in another stream" : why), was);
            if (!to.on()) return;
            Stream begun = new Stream(to, scopes.get() + 1, insts.get() + 1, Set.copyOf(kept.keySet()));
            Event.Hello hello = hello(begun);
            hello.more = new Told(List.copyOf(setup.values()), List.copyOf(kept.values()), untold);
            control(hello, begun);
            now = begun;
        } finally {
            rare.unlock();
        }
        writer.wake();
    }

    // Begins and ends of streams are always noted: there are few of them.
    private void control(Event note, Stream of) {
        note.of = of;
        note.when = now();
        noted.addAndGet(note.bytes());
        notes.add(note);
    }

    private Event.Hello hello(Stream of) {
        Event.Hello hello = new Event.Hello()
                .app(config.app).stream(of.id)
                        .start(DateTimeFormatter.ISO_INSTANT.format(of.start))
                        .version(config.version)
                        .language("java " + Runtime.version().feature())
                        .host(host())
                        .pid(ProcessHandle.current().pid())
                        .environment(config.environment)
                        .recorder("keenlantern-record/jvm")
                        .sees(sees);
        return config.labels.isEmpty() ? hello : hello.labels(config.labels);
    }

    private static String host() {
        try {
            return InetAddress.getLocalHost().getHostName();
        } catch (UnknownHostException e) {
            return null;
        }
    }

    /** A limit of the stream has been reached: the writer ends it. */
    void limit(Stream of) {
        if (now == of) set(Setting.OFF, LIMIT_REACHED);
    }

    /** Its notes, for the writer. */
    Event take() {
        return notes.take();
    }

    /** Records that a note has been written. */
    void written(Event note) {
        noted.addAndGet(-note.bytes());
    }

    /** Whether there are fewer notes than half of what there may be. */
    boolean calm() {
        return noted.get() < mostNotes / 2 && !instances.full();
    }

    void crowded(boolean is) {
        crowded = is;
    }

    /** How many events have been dropped since it was last asked. */
    long takeDropped() {
        return dropped.sum() == 0 ? 0 : dropped.sumThenReset();
    }

    void collect() {
        instances.collect(inst -> forget(inst, Event.Forget.By.RUNTIME));
    }

    /** The ids of a container and of its root scope. */
    public record Root(long container, long scope) {}

    /**
     * Records that there is a container whose root scope is one of its own, which is scope 0 for the first.
     *
     * @param container what it is like; its ids are set here
     * @param within the container around it, 0 for none
     */
    public Root root(Event.Container container, long within) {
        rare.lock();
        try {
            long scope = rooted ? scopes.incrementAndGet() : 0;
            rooted = true;
            roots.add(scope);
            container.container(++containers).scope(scope);
            if (within > 0) container.in(within);
            tell(container);
            return new Root(container.container, scope);
        } finally {
            rare.unlock();
        }
    }

    /** Records that something is registered, and returns its id. */
    public long register(Event.Register registration) {
        rare.lock();
        try {
            registration.reg(++regs);
            lasts(registration);
            tell(registration);
            return registration.reg;
        } finally {
            rare.unlock();
        }
    }

    /** Says once more what is registered under an id, now that more is known. */
    public void registerAgain(long reg, Event.Register registration) {
        rare.lock();
        try {
            registration.reg(reg);
            lasts(registration);
            tell(registration);
        } finally {
            rare.unlock();
        }
    }

    private void lasts(Event.Register registration) {
        boolean lasts = registration.lifetime == Event.Lifetime.SINGLETON
                || registration.lifetime == Event.Lifetime.PER_CONSUMER
                || registration.lifetime == Event.Lifetime.EXTERNAL;
        boolean[] list = lasting;
        int at = (int) registration.reg;
        if (at >= list.length) list = java.util.Arrays.copyOf(list, Math.max(at + 1, 2 * list.length));
        list[at] = lasts;
        lasting = list;
    }

    private boolean lasts(long reg) {
        boolean[] list = lasting;
        return reg > 0 && reg < list.length && list[(int) reg];
    }

    // A repeated registration replaces the earlier one.
    private void tell(Event event) {
        Object key = event instanceof Event.Register register ? (Object) register.reg : event;
        Event was = setup.get(key);
        int more = event.bytes() - (was == null ? 0 : was.bytes());
        if (remembered + more > mostRemembered) untold++;
        else {
            remembered += more;
            setup.put(key, event);
        }
        Stream now = this.now;
        if (now != null) note(now, event.copy());
    }

    /** Records that a container is gone: what is kept of it is dropped. Its root has been closed before. */
    public void forgetContainer(Root of) {
        rare.lock();
        try {
            setup.values().removeIf(event -> {
                boolean gone = event instanceof Event.Container c && c.container == of.container
                        || event instanceof Event.Register r && Math.max(r.container, 1) == of.container;
                return gone && letGo(event);
            });
            kept.values().removeIf(make -> Math.max(make.container, 1) == of.container && letGo(make));
        } finally {
            rare.unlock();
        }
    }

    private boolean letGo(Event event) {
        remembered -= event.bytes();
        return true;
    }

    /** Whether something that happens in a scope is recorded; it is counted where it would have been. */
    private boolean in(Stream now, long scope) {
        if (scope == 0 || scope >= now.firstScope || roots.contains(scope)) return true;
        if (scope == DROPPED) dropped.increment();
        return false;
    }

    private boolean note(Stream of, Event note) {
        int bytes = note.bytes();
        long before = noted.getAndAdd(bytes);
        if (before + bytes > mostNotes) {
            noted.addAndGet(-bytes);
            crowded = true;
            dropped.increment();
            writer.wake();
            return false;
        }
        note.of = of;
        if (note.when == 0) note.when = now();
        notes.add(note);
        if (before >> 15 != before + bytes >> 15) writer.wake();
        return true;
    }

    /** Records that a scope has begun and returns its id, {@link #UNRECORDED} or below where it is left out. It ends with {@link #close(long)}. */
    public long open(Event.Open scope) {
        return open(scope, null);
    }

    /** The same for a scope whose name is known later. What happens in it waits to be written, for two seconds at most. */
    public long open(Event.Open scope, Naming naming) {
        Stream now = this.now;
        if (now == null) return UNRECORDED;
        long around = scope.in == Event.ABSENT ? 0 : scope.in;
        if (!in(now, around))
            return around <= UNRECORDED ? around : UNRECORDED; // it is left out with what is around it
        if (now.share() < 1
                && roots.contains(around)
                && ThreadLocalRandom.current().nextDouble() >= now.share()) return UNRECORDED;
        if (crowded) {
            dropped.increment();
            return DROPPED;
        }
        long id = scopes.incrementAndGet();
        scope.scope(id).in(around == 0 ? Event.ABSENT : around);
        long work = scope.within == Event.ABSENT ? scope() : scope.within;
        scope.within(work > 0 && work != around && in(now, work) ? work : Event.ABSENT);
        if (now.weight() > 1) scope.weight(now.weight());
        scope.more = naming;
        return note(now, scope) ? id : DROPPED;
    }

    /** Records that a scope belongs to another one without lying in it, as a request belongs to a session. */
    public void join(long scope, long around) {
        Stream now = this.now;
        if (now != null && scope > 0 && around > 0 && scope != around && in(now, scope) && in(now, around))
            note(now, new Event.Join().scope(scope).in(around));
    }

    /** Records that a scope has ended: after its instances were disposed, or without anything having done so. */
    public void close(long scope) {
        Stream now = this.now;
        if (now != null && in(now, scope)) note(now, new Event.Close().scope(scope));
    }

    /** Records that an instance was built and returns its id; 0 where it is left out. */
    public long make(Event.Make make) {
        return make(make, null);
    }

    /**
     * Records that an object was built and returns its id; 0 where it is left out. The object is then known by {@link #idOf}, and is
     * recorded as gone when it is collected, where that means anything.
     */
    public long make(Event.Make make, Object object) {
        Stream now = this.now;
        if (lasts(make.reg)) return makeForGood(make, object);
        if (now == null) return 0;
        boolean owned = make.owner != Event.ABSENT && make.owner != Event.NONE;
        if (owned) {
            if (!in(now, make.owner)) return 0;
            if (!in(now, make.scope)) make.scope = make.owner;
        } else if (!in(now, make.scope)) return 0;
        if (object != null && instances.full()) {
            crowded = true;
            dropped.increment();
            return 0;
        }
        make.inst = insts.incrementAndGet();
        long home = owned ? make.owner : make.scope;
        // Of what ends with a scope that is no root it its collection adds nothing.
        boolean tell = make.owner == Event.NONE || roots.contains(home);
        long id = make.inst;
        if (!note(now, make)) return 0;
        if (object != null) instances.know(object, id, tell);
        return id;
    }

    // What outlives scopes is kept even while nothing is recorded, to be written when recording begins.
    private long makeForGood(Event.Make make, Object object) {
        rare.lock();
        try {
            long id = insts.incrementAndGet();
            make.inst = id;
            if (make.when == 0) make.when = now();
            int bytes = make.bytes();
            if (remembered + bytes > mostRemembered) untold++;
            else {
                remembered += bytes;
                Event.Make later = make.copy();
                if (!roots.contains(make.scope)) later.scope = 0; // a later stream does not know of it
                kept.put(id, later);
            }
            if (object != null && !instances.full()) instances.know(object, id, true);
            Stream now = this.now;
            if (now == null) return id;
            if (!in(now, make.scope)) make.scope = 0; // of work that is not recorded
            note(now, make);
            return id;
        } finally {
            rare.unlock();
        }
    }

    /** The instance that an object is, 0 where it is none that is known. */
    public long idOf(Object object) {
        return instances.of(object);
    }

    /** Records that an object stands in for an instance: it is the same one. */
    public void standsFor(Object object, long inst) {
        if (inst != 0 && !instances.full()) instances.know(object, inst, false);
    }

    /** Records that an instance was handed out, other than through its consumer's constructor. */
    public void give(Event.Give give) {
        Stream now = this.now;
        if (now == null || give.inst == 0 || !now.knows(give.inst)) return;
        if (give.scope != Event.ABSENT && !in(now, give.scope)) return;
        if (give.to != 0 && !now.knows(give.to)) give.to = 0;
        note(now, give);
    }

    /** Records that an instance was called, by another one or by code that is none (0), in a scope, and how many ns it took. */
    public void use(long inst, long by, long scope, long took) {
        Stream now = this.now;
        if (now == null || inst == 0 || !now.knows(inst) || !in(now, scope)) return;
        note(
                now,
                new Event.Use()
                        .inst(inst)
                        .scope(scope)
                        .by(by != 0 && now.knows(by) ? by : 0)
                        .ns(took));
    }

    /** Records that an instance is being disposed in a scope. */
    public void disposing(long inst, long scope) {
        dispose(inst, scope, Event.Dispose.By.CONTAINER, Event.State.BEGUN, 0, null);
    }

    /** That an object is collected, once it has been disposed, is nothing new. */
    void endedObject(Object object) {
        instances.ended(object);
    }

    /** Records that an object has been disposed in a scope, and how many ns that took; 0: not known. */
    public void disposed(Object object, long inst, long scope, long took, Throwable failure) {
        if (failure == null) instances.ended(object);
        dispose(
                inst,
                scope,
                Event.Dispose.By.CONTAINER,
                failure == null ? Event.State.DONE : Event.State.FAILED,
                took,
                failure);
    }

    /**
     * Records what is known of an instance's disposal. Of a failure the name of its class is recorded and never its message, which may
     * hold anything.
     */
    public void dispose(long inst, long scope, Event.Dispose.By by, Event.State state, long took, Throwable failure) {
        if (inst == 0) return;
        Stream now = this.now;
        if (state == Event.State.DONE) now = unkeep(inst);
        if (now == null || !now.knows(inst)) return;
        Event.Dispose dispose = new Event.Dispose()
                .inst(inst)
                .scope(in(now, scope) ? scope : 0)
                .by(by)
                .state(state);
        if (took > 0) dispose.ns(took);
        if (failure != null) dispose.error(failure.getClass().getName());
        note(now, dispose);
    }

    // What is written at the beginning of a stream, and what ends, is one or the other.
    private Stream unkeep(long inst) {
        rare.lock();
        try {
            Event.Make was = kept.remove(inst);
            if (was != null) remembered -= was.bytes();
            return now;
        } finally {
            rare.unlock();
        }
    }

    /** Records that an instance is gone without having been disposed. */
    public void forget(long inst, Event.Forget.By by) {
        Stream now = unkeep(inst);
        if (inst != 0 && now != null && now.knows(inst))
            note(now, new Event.Forget().inst(inst).by(by));
    }

    /** Writes keys of any type. */
    public Keys keys() {
        return keys;
    }

    /** Records that something could not be built. */
    public void fail(Event.Fail fail) {
        Stream now = this.now;
        if (now != null && fail.why == Event.Fail.Why.MISSING) unregistered.name(fail);
        if (now != null && in(now, fail.scope == Event.ABSENT ? 0 : fail.scope)) note(now, fail);
    }

    /** The work that this thread is doing. */
    public Work work() {
        Work work = (Work) working.get()[0];
        return work == null ? idle : work;
    }

    Work swap(Work to) {
        Object[] place = working.get();
        Work was = (Work) place[0];
        place[0] = to == idle ? null : to;
        return was;
    }

    /** The scope of the work that this thread is doing; 0: none is known. */
    public long scope() {
        return work().scope;
    }

    /** Some work in a scope that has been opened, to be entered by the threads that do it. */
    public Work in(long scope, String kind, String trace) {
        return new Work(this, scope, trace, kind, 0);
    }

    /** An executor whose tasks are part of the work that submits them. */
    public ExecutorService carry(ExecutorService executor) {
        return new Carrying(this, executor);
    }

    /** Does some work in its own scope: a job, a step, a message. The scope of what this thread is doing lies around it. */
    public void run(String kind, String name, Runnable work) {
        try {
            call(kind, name, () -> {
                work.run();
                return null;
            });
        } catch (RuntimeException e) {
            throw e;
        } catch (Exception e) {
            throw new IllegalStateException(e); // a Runnable throws none
        }
    }

    /** The same for work that returns something. */
    public <T> T call(String kind, String name, Callable<T> work) throws Exception {
        String trace = traceOf(null);
        long scope = open(new Event.Open().in(scope()).kind(kind).name(name).trace(trace));
        try (Work.Entered entered = in(scope, kind, trace).enter()) {
            return work.call();
        } finally {
            close(scope);
        }
    }

    /**
     * The trace-id for work that begins: of a traceparent, of the work that this thread is doing, of what the application traces
     * with, or a new one.
     */
    public String traceOf(String traceparent) {
        if (traceparent != null) {
            Matcher found = TRACEPARENT.matcher(traceparent);
            if (found.matches()) return found.group(1);
        }
        String trace = work().trace;
        if (trace == null) trace = config.traces();
        if (trace != null) return trace;
        ThreadLocalRandom random = ThreadLocalRandom.current();
        HexFormat hex = HexFormat.of();
        return hex.toHexDigits(random.nextLong(1, Long.MAX_VALUE)) + hex.toHexDigits(random.nextLong());
    }

    /** What is seen of the instances of a service, where that is not what is seen of all; null where it is. */
    public List<String> seesOf(boolean uses) {
        if (!uses || sees.contains("use")) return null;
        List<String> more = new ArrayList<>(sees);
        more.add("use");
        more.add("dispose-code");
        return more;
    }

    /** Whether calls on the instances of a service are to be recorded: all of them, or those with one of its names. */
    public boolean wantsUses(String... names) {
        if (config.uses.contains("*")) return true;
        for (String name : names) if (config.uses.contains(name)) return true;
        return false;
    }

    /** Reports problems with recording, at most one a second. */
    public void trouble(Throwable problem) {
        long at = System.nanoTime();
        long before = warned;
        if (before != 0 && at - before < TimeUnit.SECONDS.toNanos(1)) return;
        warned = at;
        if (config.problem != null) config.problem.accept(problem);
        else if (before == 0) LOG.log(Level.WARNING, "recording for Keen Lantern: " + problem.getMessage());
    }

    /** Records that a container is open: the end of the process waits a little for it to be closed. */
    public void attach() {
        attached.incrementAndGet();
    }

    /** Records that it has been closed. */
    public void detach() {
        attached.decrementAndGet();
    }

    /** Whether a container is open: what is alive in it goes on. */
    public boolean attached() {
        return attached.get() > 0;
    }

    /** Records that a container is being closed. */
    public void closing() {
        closing = true;
    }

    private void exit() {
        long patience = attached() ? TimeUnit.SECONDS.toNanos(2) : 0;
        long began = System.nanoTime();
        while (!writer.over() && System.nanoTime() - began < (closing ? TimeUnit.SECONDS.toNanos(30) : patience))
            LockSupport.parkNanos(TimeUnit.MILLISECONDS.toNanos(5));
        try {
            close(Duration.ofSeconds(2));
        } catch (IOException e) {
            trouble(e);
        }
    }

    /** Sends what has been recorded so far, and waits for that at most so long. It returns whether all of it was taken. */
    public boolean flush(Duration within) {
        return writer.flush(within) && delivery.idle(within);
    }

    /** Ends the recording, and reports what could not be delivered within 10 seconds as a problem. */
    @Override
    public void close() {
        try {
            close(Duration.ofSeconds(10));
        } catch (IOException e) {
            trouble(e);
        }
    }

    /**
     * Ends the recording and delivers what is left. Events after it are ignored.
     *
     * @throws IOException where not everything was taken within that time: it says how much
     */
    public void close(Duration within) throws IOException {
        close(within, "");
    }

    /** The same for an application that did not start, for a reason. */
    public void close(Duration within, String why) throws IOException {
        set(Setting.OFF, why.isEmpty() ? null : why);
        rare.lock();
        try {
            ended = true;
        } finally {
            rare.unlock();
        }
        if (orders != null) orders.end();
        if (exit != null && Thread.currentThread() != exit) {
            try {
                Runtime.getRuntime().removeShutdownHook(exit);
            } catch (IllegalStateException e) {
                // The process is ending.
            }
        }
        writer.end(within);
        delivery.end(within);
    }

    String id() {
        return id;
    }
}
