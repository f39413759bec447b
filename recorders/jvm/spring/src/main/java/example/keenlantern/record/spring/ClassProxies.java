package example.keenlantern.record.spring;

import example.keenlantern.record.Recorder;
import example.keenlantern.record.StandIn;
import java.lang.reflect.Field;
import java.lang.reflect.Method;
import java.lang.reflect.Modifier;
import java.util.Set;
import org.aopalliance.intercept.MethodInterceptor;
import org.springframework.aop.framework.Advised;
import org.springframework.aop.framework.AopConfigException;
import org.springframework.aop.framework.ProxyFactory;
import org.springframework.util.ClassUtils;

/**
 * Records the calls of beans that are asked for by their class, through the container's own proxies of classes: the ones that
 * {@code @Transactional} and {@code @Async} use. Only a class that behaves the same behind such a proxy gets one.
 */
final class ClassProxies {
    private static final ClassValue<Boolean> FIT = new ClassValue<>() {
        @Override
        protected Boolean computeValue(Class<?> type) {
            return isFit(type);
        }
    };

    private ClassProxies() {}

    /**
     * Reports whether a proxy can be put before instances of a class without the application noticing: the class and its methods can be
     * overridden, it leaves equality to {@link Object}, and other classes cannot read its fields, which a proxy does not have.
     */
    static boolean fit(Class<?> type) {
        return FIT.get(type);
    }

    private static boolean isFit(Class<?> type) {
        if (type.isInterface() || type.isPrimitive() || type.isArray() || type.isEnum() || type.isRecord())
            return false;
        if (Modifier.isFinal(type.getModifiers()) || type.isSealed() || type.isHidden()) return false;
        if (Modifier.isPrivate(type.getModifiers()) || type.getName().startsWith("java.")) return false;
        for (Class<?> c = type; c != Object.class; c = c.getSuperclass()) {
            for (Method method : c.getDeclaredMethods()) {
                int modifiers = method.getModifiers();
                if (Modifier.isStatic(modifiers) || Modifier.isPrivate(modifiers)) continue;
                if (Modifier.isFinal(modifiers)) return false;
                if (method.getName().equals("equals") && method.getParameterCount() == 1) return false;
                // A proxy in the package of the class cannot override what only another package may see.
                if (!Modifier.isPublic(modifiers)
                        && !Modifier.isProtected(modifiers)
                        && !c.getPackageName().equals(type.getPackageName())) return false;
            }
            for (Field field : c.getDeclaredFields()) {
                int modifiers = field.getModifiers();
                if (Modifier.isStatic(modifiers) || field.isSynthetic()) continue;
                if (!Modifier.isPrivate(modifiers) && !Modifier.isProtected(modifiers)) return false;
            }
        }
        return true;
    }

    /** Returns the object that the application gets for a bean so that its calls are recorded; null if they cannot be. */
    static Object of(Recorder recorder, Object bean, Object target, long inst, Set<String> disposers) {
        StandIn calls = StandIn.callsOf(recorder, target, inst, disposers);
        MethodInterceptor advice = call -> calls.called(call.getMethod(), call::proceed);
        try {
            if (bean instanceof Advised advised) {
                if (advised.isFrozen()) return null;
                advised.addAdvice(0, advice); // it is behind such a proxy for another reason
                return bean;
            }
            if (bean != target || !fit(bean.getClass())) return null;
            ProxyFactory factory = new ProxyFactory(bean);
            factory.setProxyTargetClass(true);
            factory.addAdvice(advice);
            Object proxy = factory.getProxy(ClassUtils.getUserClass(bean).getClassLoader());
            recorder.standsFor(proxy, inst);
            return proxy;
        } catch (AopConfigException | IllegalStateException | LinkageError e) {
            return null;
        }
    }
}
