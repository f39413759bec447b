package example.keenlantern.record.spring;

import org.springframework.beans.factory.config.BeanDefinitionHolder;
import org.springframework.beans.factory.config.DependencyDescriptor;
import org.springframework.beans.factory.support.AutowireCandidateResolver;

/** Sees what injection points and providers ask for. */
final class WatchedResolver implements AutowireCandidateResolver {
    private final Container container;
    private final AutowireCandidateResolver resolver;

    WatchedResolver(Container container, AutowireCandidateResolver resolver) {
        this.container = container;
        this.resolver = resolver;
    }

    @Override
    public boolean isAutowireCandidate(BeanDefinitionHolder bdHolder, DependencyDescriptor descriptor) {
        return resolver.isAutowireCandidate(bdHolder, descriptor);
    }

    @Override
    public boolean isRequired(DependencyDescriptor descriptor) {
        return resolver.isRequired(descriptor);
    }

    @Override
    public boolean hasQualifier(DependencyDescriptor descriptor) {
        return resolver.hasQualifier(descriptor);
    }

    @Override
    public String getSuggestedName(DependencyDescriptor descriptor) {
        return resolver.getSuggestedName(descriptor);
    }

    @Override
    public Object getSuggestedValue(DependencyDescriptor descriptor) {
        Object value = resolver.getSuggestedValue(descriptor);
        if (value == null) {
            try {
                container.resolving(descriptor);
            } catch (RuntimeException | LinkageError e) {
                container.recorder.trouble(e); // the application goes on as ever
            }
        }
        return value;
    }

    @Override
    public Object getLazyResolutionProxyIfNecessary(DependencyDescriptor descriptor, String beanName) {
        return resolver.getLazyResolutionProxyIfNecessary(descriptor, beanName);
    }

    @Override
    public Class<?> getLazyResolutionProxyClass(DependencyDescriptor descriptor, String beanName) {
        return resolver.getLazyResolutionProxyClass(descriptor, beanName);
    }

    @Override
    public AutowireCandidateResolver cloneIfNecessary() {
        return new WatchedResolver(container, resolver.cloneIfNecessary());
    }
}
