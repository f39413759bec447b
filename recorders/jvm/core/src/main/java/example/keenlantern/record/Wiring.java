package example.keenlantern.record;

import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.BiFunction;
import java.util.function.Function;

/**
 * What an application that is wired by hand provides: a container as small as one can be, which reports to a recorder.
 *
 * <pre>{@code
 * Wiring wiring = new Wiring(recorder);
 * Wiring.Service<HarbourClock> clock = wiring.provide("HarbourClock", SINGLETON, get -> new HarbourClock());
 * Wiring.Service<BerthLedger> ledger = wiring.provide("BerthLedger", SCOPED, get -> new BerthLedger(get.of(clock)));
 *
 * try (Wiring.Scope scope = wiring.open("request", "GET /berths")) {
 *     scope.get(ledger).free();
 * }
 * }</pre>
 */
public final class Wiring implements AutoCloseable {
    /** How long what was built is kept. */
    public enum Kept {
        /** Until the wiring is closed. */
        SINGLETON(Event.Lifetime.SINGLETON),
        /** Until the scope that asked is closed. */
        SCOPED(Event.Lifetime.SCOPED),
        /** It is built for each request, and disposed with the scope that asked. */
        TRANSIENT(Event.Lifetime.TRANSIENT);

        final Event.Lifetime lifetime;

        Kept(Event.Lifetime lifetime) {
            this.lifetime = lifetime;
        }
    }

    /** Asks for what something is built from: that is kept by what is built. */
    public interface Get {
        /** Returns an instance of a service. */
        <T> T of(Service<T> service);
    }

    /** Something that was asked for in the course of asking for itself. */
    public static final class CycleException extends IllegalStateException {
        CycleException(List<String> path) {
            super("it needs itself: " + String.join(" → ", path));
        }
    }

    /** Something that was asked for from a scope that has been closed. */
    public static final class ClosedException extends IllegalStateException {
        ClosedException() {
            super("the scope is closed");
        }
    }

    private record Layer<T>(long reg, BiFunction<T, Get, T> wrap) {}

    /**
     * Something that can be asked for.
     *
     * @param <T> its type
     */
    public static final class Service<T> {
        final String name;
        final String key;
        final Kept kept;
        final long reg;
        final Function<Get, T> build;
        final List<Layer<T>> layers = new ArrayList<>();

        Service(String name, String key, Kept kept, long reg, Function<Get, T> build) {
            this.name = name;
            this.key = key;
            this.kept = kept;
            this.reg = reg;
            this.build = build;
        }
    }

    private record Entry(Object value, long inst) {}

    private record Building(Service<?> of, List<Object> with) {}

    private final Recorder recorder;
    private final Recorder.Root root;
    private final Scope whole;
    private final ReentrantLock building = new ReentrantLock(); // of singletons

    /** A wiring with nothing in it. */
    public Wiring(Recorder recorder) {
        this.recorder = recorder;
        root = recorder.root(new Event.Container().name("wiring"), 0);
        whole = new Scope(root.scope(), false, null);
    }

    /** What lives as long as the wiring. */
    public Scope root() {
        return whole;
    }

    /** Provides what is built. */
    public <T> Service<T> provide(String name, Kept kept, Function<Get, T> build) {
        return provide(name, null, kept, build);
    }

    /** Provides one of several of the same name. What is {@link AutoCloseable} is closed with what it lives in. */
    public <T> Service<T> provide(String name, String key, Kept kept, Function<Get, T> build) {
        return new Service<>(name, key, kept, register(name, key, kept, 0), build);
    }

    /** Puts a layer around what a service provides: requests are answered with what it returns. The latest layer is the outermost. */
    public <T> void decorate(Service<T> service, BiFunction<T, Get, T> wrap) {
        long inner = service.layers.isEmpty() ? service.reg : service.layers.get(service.layers.size() - 1).reg;
        service.layers.add(new Layer<>(register(service.name, service.key, service.kept, inner), wrap));
    }

    private long register(String service, String key, Kept kept, long wraps) {
        return recorder.register(new Event.Register()
                .service(service)
                .lifetime(kept.lifetime)
                .container(root.container())
                .key(key)
                .wraps(wraps)
                .sees(recorder.seesOf(recorder.wantsUses(service))));
    }

    /** Opens a scope of work inside that of what this thread is doing; it has one of its own in the recording. */
    public Scope open(String kind, String name) {
        String trace = recorder.traceOf(null);
        long id = recorder.open(
                new Event.Open().in(recorder.scope()).kind(kind).name(name).trace(trace));
        return new Scope(id, true, recorder.in(id, kind, trace).enter());
    }

    /** Disposes what lives as long as the wiring, the latest first. */
    @Override
    public void close() {
        whole.close();
        recorder.close(root.scope());
        recorder.forgetContainer(root);
    }

    /** A stretch of work with its own instances. It is opened and closed by one thread, and may be asked by several. */
    public final class Scope implements AutoCloseable {
        private final long id;
        private final boolean own;
        private final Work.Entered entered;
        private final Map<Service<?>, Entry> built = new HashMap<>();
        private final Deque<Entry> ends = new ArrayDeque<>();
        private final ReentrantLock lock;
        private final AtomicBoolean closed = new AtomicBoolean();

        Scope(long id, boolean own, Work.Entered entered) {
            this.id = id;
            this.own = own;
            this.entered = entered;
            lock = own ? new ReentrantLock() : building;
        }

        /** Its id in the recording. */
        public long id() {
            return id;
        }

        /** Asks for an instance, building it if need be. */
        public <T> T get(Service<T> service) {
            return get(service, null);
        }

        /** The same, where {@code entry} names the handler, job or message that asks. */
        public <T> T get(Service<T> service, String entry) {
            Entry entry0 = ask(service, this, new ArrayDeque<>());
            recorder.give(new Event.Give()
                    .inst(entry0.inst)
                    .scope(id)
                    .service(service.name)
                    .key(service.key)
                    .how(Event.How.LOCATOR)
                    .entry(entry));
            return cast(entry0);
        }

        /** Disposes what the scope built, the latest first, and ends it. A second call does nothing. */
        @Override
        public void close() {
            if (closed.getAndSet(true)) return;
            RuntimeException failed = null;
            for (Entry e = take(); e != null; e = take()) {
                long began = Recorder.now();
                recorder.disposing(e.inst, id);
                Exception failure = null;
                try {
                    ((AutoCloseable) e.value).close();
                } catch (Exception problem) {
                    failure = problem;
                    if (failed == null) failed = new IllegalStateException("something could not be closed", problem);
                    else failed.addSuppressed(problem);
                }
                recorder.disposed(e.value, e.inst, id, Recorder.now() - began, failure);
            }
            if (entered != null) entered.close();
            if (own) recorder.close(id);
            if (failed != null) throw failed;
        }

        private Entry take() {
            lock.lock();
            try {
                return ends.pollLast();
            } finally {
                lock.unlock();
            }
        }
    }

    @SuppressWarnings("unchecked") // what a service of T built is a T
    private static <T> T cast(Entry entry) {
        return (T) entry.value;
    }

    private <T> Entry ask(Service<T> service, Scope scope, ArrayDeque<Building> path) {
        Scope home = service.kept == Kept.SINGLETON ? whole : scope;
        home.lock.lock();
        try {
            if (home.closed.get() || scope.closed.get())
                throw failed(new ClosedException(), service, scope, path, Event.Fail.Why.CLOSED);
            Entry known = service.kept == Kept.TRANSIENT ? null : home.built.get(service);
            if (known != null) return known;
            if (path.stream().anyMatch(b -> b.of == service)) {
                List<String> names = names(path, service);
                throw failed(new CycleException(names), service, scope, path, Event.Fail.Why.CYCLE);
            }
            Entry made;
            try {
                made = make(service, service.reg, home, scope, path, new ArrayList<>(), service.build);
                for (Layer<T> layer : service.layers) {
                    T inner = cast(made);
                    List<Object> with = new ArrayList<>();
                    with.add(Given.of(made.inst, "inner", service.name, service.key));
                    made = make(service, layer.reg, home, scope, path, with, get -> layer.wrap.apply(inner, get));
                }
            } catch (CycleException | ClosedException e) {
                throw e; // recorded already
            } catch (RuntimeException e) {
                throw failed(e, service, scope, path, Event.Fail.Why.ERROR);
            }
            if (service.kept != Kept.TRANSIENT) home.built.put(service, made);
            return made;
        } finally {
            home.lock.unlock();
        }
    }

    private static List<String> names(ArrayDeque<Building> path, Service<?> last) {
        List<String> names = new ArrayList<>();
        for (Building b : path) names.add(b.of.name);
        names.add(last.name);
        return names;
    }

    private <T> Entry make(
            Service<T> service,
            long reg,
            Scope home,
            Scope scope,
            ArrayDeque<Building> path,
            List<Object> with,
            Function<Get, T> build) {
        Building building = new Building(service, with);
        path.addLast(building);
        long began = Recorder.now();
        T value;
        try {
            value = build.apply(new Get() {
                @Override
                public <D> D of(Service<D> asked) {
                    // What a singleton is built from lives at the root, too.
                    Entry got = ask(asked, home, path);
                    with.add(Given.of(got.inst, null, asked.name, asked.key));
                    return cast(got);
                }
            });
        } finally {
            path.removeLast();
        }
        boolean disposable = value instanceof AutoCloseable;
        Event.Make make = new Event.Make()
                .reg(reg)
                .scope(scope.id)
                .container(root.container())
                .with(with)
                .ns(Recorder.now() - began)
                .impl(value.getClass().getName())
                .disposable(disposable);
        if (service.kept != Kept.SINGLETON) make.owner(home.id);
        long inst = recorder.make(make, value);
        Object shown = value;
        if (recorder.wantsUses(service.name))
            shown = StandIn.of(recorder, value, inst, disposable ? Set.of("close") : Set.of());
        if (disposable) home.ends.addLast(new Entry(value, inst));
        return new Entry(shown, inst);
    }

    private final Map<Throwable, Boolean> told = java.util.Collections.synchronizedMap(new java.util.WeakHashMap<>());

    // It is recorded where it happens, and not again by its consumers.
    private <E extends RuntimeException> E failed(
            E error, Service<?> service, Scope scope, ArrayDeque<Building> path, Event.Fail.Why why) {
        if (told.put(error, true) == null)
            recorder.fail(new Event.Fail()
                    .service(service.name)
                    .key(service.key)
                    .why(why)
                    .error(why == Event.Fail.Why.ERROR ? error.getClass().getName() : null)
                    .scope(scope.id)
                    .path(names(path, service)));
        return error;
    }
}
