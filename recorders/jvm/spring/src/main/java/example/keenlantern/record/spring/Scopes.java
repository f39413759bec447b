package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Recorder;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.function.ToLongFunction;
import org.springframework.beans.factory.ObjectFactory;
import org.springframework.beans.factory.config.Scope;

/** The scopes other than singleton and prototype: which of them an instance belongs to, and what is destroyed when they end. */
final class Scopes {
    private static final int MOST = 10_000; // conversations that never end
    private static final ThreadLocal<Ending> ENDING = new ThreadLocal<>();

    private final Container container;
    private final Map<String, Conversation> conversations = new ConcurrentHashMap<>();
    private volatile ToLongFunction<Object> requests; // the scope that a request was given, 0 for none
    private volatile boolean sessionsEnd; // their end is reported

    /** A session or the like. */
    private static final class Conversation {
        final long scope;
        final AtomicInteger callbacks = new AtomicInteger(1); // what is to be destroyed, and its own end
        volatile long joined; // the latest work that was said to belong to it: saying so again does no harm

        Conversation(long scope) {
            this.scope = scope;
        }
    }

    /** A destruction callback that is running. */
    static final class Ending {
        private final long scope;
        private final Ending around;
        private Object object;
        private long inst;

        Ending(long scope, Ending around) {
            this.scope = scope;
            this.around = around;
        }

        long scope() {
            return scope;
        }

        void begun(Object object, long inst) {
            this.object = object;
            this.inst = inst;
        }
    }

    /** The destruction callback that this thread runs, null for none. */
    static Ending ending() {
        return ENDING.get();
    }

    Scopes(Container container) {
        this.container = container;
    }

    /** Has each scope that is registered be watched. */
    void watch(Hooks hooks) {
        for (String name : container.beans.getRegisteredScopeNames()) {
            Scope scope = container.beans.getRegisteredScope(name);
            if (scope != null && !(scope instanceof Watched)) hooks.watch(name, scope, new Watched(name, scope));
        }
    }

    void requests(ToLongFunction<Object> scopeOf) {
        requests = scopeOf;
    }

    void sessionsEnd() {
        sessionsEnd = true;
    }

    /** The scope of a session, 0 where it has none yet. */
    long session(String id) {
        Conversation session = conversations.get("session " + id);
        return session == null ? 0 : session.scope;
    }

    /** Records that a session has ended; what it holds may be destroyed later. */
    void sessionEnded(String id) {
        Conversation session = conversations.remove("session " + id);
        if (session != null) done(session);
    }

    private void done(Conversation of) {
        if (of.callbacks.decrementAndGet() == 0) container.recorder.close(of.scope);
    }

    private Conversation conversation(String kind, String id) {
        if (conversations.size() > MOST) conversations.clear();
        return conversations.computeIfAbsent(kind + " " + id, key -> {
            Event.Open open = new Event.Open().in(container.root.scope()).kind(kind);
            // Of a scope of the application's own, nothing shows when it ends. A session is ended by the shutdown at
            // the latest.
            open.ends(kind.equals("session") && sessionsEnd ? Event.Ends.SHUTDOWN : Event.Ends.UNKNOWN);
            return new Conversation(container.recorder.open(open));
        });
    }

    private final class Watched implements Scope {
        private final String name;
        private final Scope scope;

        Watched(String name, Scope scope) {
            this.name = name;
            this.scope = scope;
        }

        private Conversation conversation() {
            String id = scope.getConversationId();
            return id == null ? null : Scopes.this.conversation(name, id);
        }

        private long home() {
            ToLongFunction<Object> requests = Scopes.this.requests;
            if (name.equals("request")) {
                Object request = requests == null ? null : scope.resolveContextualObject("request");
                long of = request == null ? 0 : requests.applyAsLong(request);
                return of == 0 ? container.recorder.scope() : of;
            }
            Conversation conversation = conversation();
            return conversation == null ? container.recorder.scope() : conversation.scope;
        }

        @Override
        public Object get(String bean, ObjectFactory<?> factory) {
            Object got = find(bean, factory);
            if (!name.equals("request") && container.recorder.on()) join();
            return got;
        }

        // What asks belongs to it: a request to its session, and to whatever the application has beside it.
        private void join() {
            long work = container.recorder.scope();
            String id = work <= 0 ? null : scope.getConversationId();
            Conversation of = id == null ? null : conversations.get(name + " " + id);
            if (of == null || of.joined == work) return;
            of.joined = work;
            container.recorder.join(work, of.scope);
        }

        private Object find(String bean, ObjectFactory<?> factory) {
            Building building = container.recorder.on() ? Building.latest() : null;
            if (building != null && building.container == container && building.asked.equals(bean) && !building.made) {
                return scope.get(bean, () -> {
                    building.home = home();
                    return factory.getObject();
                });
            }
            return scope.get(bean, factory);
        }

        @Override
        public Object remove(String bean) {
            Object removed = scope.remove(bean);
            if (removed != null) container.recorder.forget(container.recorder.idOf(removed), Event.Forget.By.CONTAINER);
            return removed;
        }

        @Override
        public void registerDestructionCallback(String bean, Runnable callback) {
            if (!container.recorder.on()) {
                scope.registerDestructionCallback(bean, callback);
                return;
            }
            Conversation conversation = name.equals("request") ? null : conversation();
            long home = conversation == null ? home() : conversation.scope;
            if (conversation != null) conversation.callbacks.incrementAndGet();
            scope.registerDestructionCallback(bean, () -> {
                Ending running = new Ending(home, ENDING.get());
                ENDING.set(running);
                long began = Recorder.now();
                try {
                    callback.run();
                } finally {
                    if (running.around == null) ENDING.remove();
                    else ENDING.set(running.around);
                    if (running.inst != 0)
                        container.recorder.disposed(running.object, running.inst, home, Recorder.now() - began, null);
                    if (conversation != null) done(conversation);
                }
            });
        }

        @Override
        public Object resolveContextualObject(String key) {
            return scope.resolveContextualObject(key);
        }

        @Override
        public String getConversationId() {
            return scope.getConversationId();
        }
    }
}
