package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Work;
import java.lang.reflect.Method;
import java.util.Map;
import java.util.Queue;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ConcurrentLinkedQueue;
import java.util.concurrent.atomic.AtomicBoolean;
import org.aopalliance.intercept.MethodInterceptor;
import org.aopalliance.intercept.MethodInvocation;
import org.springframework.aop.Advisor;
import org.springframework.aop.ProxyMethodInvocation;
import org.springframework.aop.framework.Advised;
import org.springframework.beans.factory.DisposableBean;
import org.springframework.beans.factory.config.BeanPostProcessor;
import org.springframework.core.Ordered;
import org.springframework.core.annotation.AnnotatedElementUtils;
import org.springframework.scheduling.annotation.Async;
import org.springframework.scheduling.annotation.AsyncAnnotationAdvisor;

/** Has each call of an asynchronous method be a scope, in the trace of whoever called it. */
final class AsyncWork implements BeanPostProcessor, Ordered, DisposableBean {
    private static final String TRACE = AsyncWork.class.getName() + ".trace";

    private final Recorder recorder;
    private final Queue<Runnable> watching = new ConcurrentLinkedQueue<>(); // each ends the watching of a bean

    AsyncWork(Recorder recorder) {
        this.recorder = recorder;
    }

    @Override
    public int getOrder() {
        return LOWEST_PRECEDENCE; // the proxies of asynchronous beans are there by then
    }

    @Override
    public void destroy() {
        watching.forEach(Runnable::run);
    }

    @Override
    public Object postProcessAfterInitialization(Object bean, String name) {
        if (!(bean instanceof Advised advised) || advised.isFrozen()) return bean;
        for (Advisor advisor : advised.getAdvisors()) {
            if (!(advisor instanceof AsyncAnnotationAdvisor)) continue;
            watch(advised);
            break;
        }
        return bean;
    }

    // From when something is recorded for the first time: each advice costs every call of the bean.
    private void watch(Advised advised) {
        AtomicBoolean watched = new AtomicBoolean();
        Map<Method, Boolean> async = new ConcurrentHashMap<>(); // of this bean's methods
        Runnable watch = () -> {
            if (watched.getAndSet(true)) return;
            advised.addAdvice(0, (MethodInterceptor) this::called);
            advised.addAdvice((MethodInterceptor) call -> running(call, async));
        };
        watching.add(recorder.whenSwitched(watch, () -> {}));
        if (recorder.on()) watch.run();
    }

    // By whoever asks for it.
    private Object called(MethodInvocation call) throws Throwable {
        if (recorder.on() && call instanceof ProxyMethodInvocation proxied)
            proxied.setUserAttribute(TRACE, recorder.work().traceId());
        return call.proceed();
    }

    // By the thread that does it.
    private Object running(MethodInvocation call, Map<Method, Boolean> async) throws Throwable {
        Method method = call.getMethod();
        Class<?> type = call.getThis() == null
                ? method.getDeclaringClass()
                : call.getThis().getClass();
        if (!recorder.on() || !async.computeIfAbsent(method, m -> async(m, type))) return call.proceed();
        Object came = call instanceof ProxyMethodInvocation proxied ? proxied.getUserAttribute(TRACE) : null;
        String trace = came instanceof String text ? text : recorder.traceOf(null);
        // What called it may have ended when this runs: it is no part of that.
        long scope = recorder.open(new Event.Open()
                .kind("async")
                .name(type.getName() + "." + method.getName())
                .trace(trace));
        try (Work.Entered entered = recorder.in(scope, "async", trace).enter()) {
            return call.proceed();
        } finally {
            recorder.close(scope);
        }
    }

    private static boolean async(Method method, Class<?> type) {
        return AnnotatedElementUtils.hasAnnotation(method, Async.class)
                || AnnotatedElementUtils.hasAnnotation(method.getDeclaringClass(), Async.class)
                || AnnotatedElementUtils.hasAnnotation(type, Async.class);
    }
}
