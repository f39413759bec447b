package example.keenlantern.record;

import java.lang.reflect.InvocationHandler;
import java.lang.reflect.InvocationTargetException;
import java.lang.reflect.Method;
import java.lang.reflect.Proxy;
import java.util.LinkedHashSet;
import java.util.Set;

/**
 * A proxy of another object, by its interfaces, that records each call of their methods. It equals the
 * object that it stands for, and is equal to it for another stand-in.
 */
public final class StandIn implements InvocationHandler {
    private static final ClassValue<Class<?>[]> INTERFACES = new ClassValue<>() {
        @Override
        protected Class<?>[] computeValue(Class<?> type) {
            Set<Class<?>> interfaces = new LinkedHashSet<>();
            for (Class<?> c = type; c != null; c = c.getSuperclass())
                for (Class<?> i : c.getInterfaces()) if (!i.isSealed() && !i.isHidden()) interfaces.add(i);
            return interfaces.toArray(Class<?>[]::new);
        }
    };

    private final Recorder recorder;
    private final Object target;
    private final long inst;
    private final Set<String> disposers;

    private StandIn(Recorder recorder, Object target, long inst, Set<String> disposers) {
        this.recorder = recorder;
        this.target = target;
        this.inst = inst;
        this.disposers = disposers;
    }

    /**
     * Returns an object that stands in for an instance, or the object itself where none can: it has no interfaces, or none that may
     * be implemented elsewhere.
     *
     * @param disposers methods without parameters that dispose the object: calls are recorded as its disposal by code
     */
    public static Object of(Recorder recorder, Object target, long inst, Set<String> disposers) {
        Class<?>[] interfaces = INTERFACES.get(target.getClass());
        if (interfaces.length == 0 || inst == 0) return target;
        try {
            Object standIn = Proxy.newProxyInstance(
                    target.getClass().getClassLoader(), interfaces, new StandIn(recorder, target, inst, disposers));
            recorder.standsFor(standIn, inst);
            return standIn;
        } catch (IllegalArgumentException | SecurityException e) {
            return target; // its interfaces are not to be implemented here
        }
    }

    /** What an object stands in for: itself, where it is no stand-in. */
    public static Object standsFor(Object object) {
        return object != null
                        && Proxy.isProxyClass(object.getClass())
                        && Proxy.getInvocationHandler(object) instanceof StandIn standIn
                ? standIn.target
                : object;
    }

    @Override
    public Object invoke(Object proxy, Method method, Object[] args) throws Throwable {
        if (method.getDeclaringClass() == Object.class) {
            return switch (method.getName()) {
                case "equals" -> target.equals(standsFor(args[0]));
                case "hashCode" -> target.hashCode();
                default -> target.toString();
            };
        }
        return called(method, () -> call(method, args));
    }

    /** What a call does. */
    @FunctionalInterface
    public interface Call {
        /** Makes it. */
        Object proceed() throws Throwable;
    }

    /**
     * Returns what records the calls of an instance that a proxy of the container's passes on, for {@link #called}.
     *
     * @param disposers as for {@link #of}
     */
    public static StandIn callsOf(Recorder recorder, Object target, long inst, Set<String> disposers) {
        return new StandIn(recorder, target, inst, disposers);
    }

    /** Makes a call of a method of the instance, and records it. */
    public Object called(Method method, Call call) throws Throwable {
        Work work = recorder.work();
        // What it calls of itself is its own business.
        if (!recorder.on() || work.caller == inst) return call.proceed();
        boolean disposes = method.getParameterCount() == 0 && disposers.contains(method.getName());
        if (disposes) recorder.dispose(inst, work.scope, Event.Dispose.By.CODE, Event.State.BEGUN, 0, null);
        long began = Recorder.now();
        Throwable failure = null;
        try (Work.Entered entered = work.calledBy(inst).enter()) {
            return call.proceed();
        } catch (Throwable e) {
            failure = e;
            throw e;
        } finally {
            long took = Recorder.now() - began;
            if (!disposes) recorder.use(inst, work.caller, work.scope, took);
            else if (failure != null)
                recorder.dispose(inst, work.scope, Event.Dispose.By.CODE, Event.State.FAILED, took, failure);
            else {
                recorder.endedObject(target);
                recorder.dispose(inst, work.scope, Event.Dispose.By.CODE, Event.State.DONE, took, null);
            }
        }
    }

    private Object call(Method method, Object[] args) throws Throwable {
        try {
            return method.invoke(target, args);
        } catch (InvocationTargetException e) {
            throw e.getCause();
        } catch (IllegalAccessException e) {
            method.setAccessible(true); // an interface that only its package sees
            return call(method, args);
        }
    }
}
