package example.keenlantern.record.spring;

import org.springframework.beans.factory.config.SmartInstantiationAwareBeanPostProcessor;
import org.springframework.beans.factory.support.MergedBeanDefinitionPostProcessor;
import org.springframework.beans.factory.support.RootBeanDefinition;
import org.springframework.core.Ordered;

/** Sees beans that are whole. It comes behind all other post-processors. */
final class WatchedBeans
        implements SmartInstantiationAwareBeanPostProcessor, MergedBeanDefinitionPostProcessor, Resting, Ordered {
    private final Container container;

    WatchedBeans(Container container) {
        this.container = container;
    }

    @Override
    public int getOrder() {
        return LOWEST_PRECEDENCE;
    }

    @Override
    public void postProcessMergedBeanDefinition(RootBeanDefinition definition, Class<?> type, String name) {
        // It is one of these to come behind the others.
    }

    @Override
    public Object getEarlyBeanReference(Object bean, String name) {
        try {
            container.early(name, bean);
        } catch (RuntimeException | LinkageError e) {
            container.recorder.trouble(e); // the application goes on as ever
        }
        return bean;
    }

    @Override
    public Object postProcessAfterInitialization(Object bean, String name) {
        try {
            return container.initialized(name, bean);
        } catch (RuntimeException | LinkageError e) {
            container.recorder.trouble(e);
            return bean;
        }
    }
}
