package example.keenlantern.record.spring;

import java.lang.reflect.Constructor;
import java.lang.reflect.Executable;
import java.lang.reflect.Method;
import java.util.function.Supplier;
import org.springframework.beans.factory.BeanFactory;
import org.springframework.beans.factory.support.InstantiationStrategy;
import org.springframework.beans.factory.support.RootBeanDefinition;

/** Sees what constructors and factory methods are called with, and what results from it. */
final class WatchedInstantiation implements InstantiationStrategy {
    private static final Object[] NOTHING = {};

    private final Container container;
    private final InstantiationStrategy strategy;

    WatchedInstantiation(Container container, InstantiationStrategy strategy) {
        this.container = container;
        this.strategy = strategy;
    }

    @Override
    public Object instantiate(RootBeanDefinition bd, String beanName, BeanFactory owner) {
        return watched(bd, beanName, null, NOTHING, () -> strategy.instantiate(bd, beanName, owner));
    }

    @Override
    public Object instantiate(
            RootBeanDefinition bd, String beanName, BeanFactory owner, Constructor<?> ctor, Object... args) {
        return watched(bd, beanName, ctor, args, () -> strategy.instantiate(bd, beanName, owner, ctor, args));
    }

    @Override
    public Object instantiate(
            RootBeanDefinition bd,
            String beanName,
            BeanFactory owner,
            Object factoryBean,
            Method factoryMethod,
            Object... args) {
        return watched(
                bd,
                beanName,
                factoryMethod,
                args,
                () -> strategy.instantiate(bd, beanName, owner, factoryBean, factoryMethod, args));
    }

    private Object watched(
            RootBeanDefinition bd, String beanName, Executable by, Object[] args, Supplier<Object> instantiate) {
        Building building = null;
        try {
            building = container.instantiating(bd, beanName, by, args);
        } catch (RuntimeException | LinkageError e) {
            container.recorder.trouble(e); // the application goes on as ever
        }
        if (building == null) return instantiate.get();
        Object raw = null;
        Throwable thrown = null;
        try {
            raw = instantiate.get();
            return raw;
        } catch (RuntimeException | Error e) {
            thrown = e;
            throw e;
        } finally {
            container.instantiated(building, raw, thrown);
        }
    }

    @Override
    public Class<?> getActualBeanClass(RootBeanDefinition bd, String beanName, BeanFactory owner) {
        return strategy.getActualBeanClass(bd, beanName, owner);
    }
}
