package example.keenlantern.record.spring;

import example.keenlantern.record.Event;
import example.keenlantern.record.Work;
import java.lang.reflect.Method;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import org.aopalliance.intercept.MethodInterceptor;
import org.aopalliance.intercept.MethodInvocation;
import org.springframework.aop.Advisor;
import org.springframework.aop.ProxyMethodInvocation;
import org.springframework.aop.framework.Advised;
import org.springframework.core.annotation.AnnotatedElementUtils;
import org.springframework.scheduling.annotation.Async;
import org.springframework.scheduling.annotation.AsyncAnnotationAdvisor;

/** Has each call of an asynchronous method be a scope, in its caller's trace. */
final class AsyncWork extends Joining {
    private static final String TRACE = AsyncWork.class.getName() + ".trace";

    AsyncWork(SpringRecording recording) {
        super(recording);
    }

    /** The advice that has the method's caller known to whatever runs it. */
    private interface Called extends MethodInterceptor {}

    // Each advice costs every call of the bean: not before something is recorded.
    @Override
    void join(Object bean, String name) {
        if (!(bean instanceof Advised advised) || advised.isFrozen()) return;
        boolean async = false;
        for (Advisor advisor : advised.getAdvisors()) {
            if (advisor.getAdvice() instanceof Called) return;
            async |= advisor instanceof AsyncAnnotationAdvisor;
        }
        if (!async) return;
        Map<Method, Boolean> methods = new ConcurrentHashMap<>(); // of this bean's, which are asynchronous
        advised.addAdvice(0, (Called) this::called);
        advised.addAdvice((MethodInterceptor) call -> running(call, methods));
    }

    // By the requester.
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
