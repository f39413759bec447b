package example.keenlantern.record.spring;

import org.springframework.beans.factory.config.DestructionAwareBeanPostProcessor;

/**
 * Sees that a bean's destruction begins. It comes before all other post-processors, since some of them call what annotations name: what a
 * bean disposes there is disposed during its own destruction.
 */
final class WatchedEnds implements DestructionAwareBeanPostProcessor, Resting {
    private final Container container;

    WatchedEnds(Container container) {
        this.container = container;
    }

    @Override
    public boolean requiresDestruction(Object bean) {
        return container.destroys(bean);
    }

    @Override
    public void postProcessBeforeDestruction(Object bean, String name) {
        container.destroying(bean);
    }
}
