package example.keenlantern.record.spring;

import java.util.LinkedHashMap;
import java.util.Map;
import org.springframework.beans.factory.config.Scope;
import org.springframework.beans.factory.support.AutowireCandidateResolver;
import org.springframework.beans.factory.support.DefaultListableBeanFactory;
import org.springframework.beans.factory.support.InstantiationStrategy;
import org.springframework.core.metrics.ApplicationStartup;

/**
 * What is set on a bean factory to see what it does. While recording is off, and all singletons of the application are there, nothing
 * that it sees would be recorded: then the factory has back what it had, so that recording costs next to nothing.
 *
 * <p>A thread that builds something at that moment may go on with what it began with: what is seen of it by halves is passed over.
 */
final class Hooks {
    private final DefaultListableBeanFactory beans;
    private final InstantiationStrategy strategy;
    private final InstantiationStrategy watchedStrategy;
    private final ApplicationStartup startup;
    private final ApplicationStartup watchedStartup;
    private AutowireCandidateResolver resolver; // null: not watched so far
    private AutowireCandidateResolver watchedResolver;
    private final Map<String, Scope> scopes = new LinkedHashMap<>();
    private final Map<String, Scope> watchedScopes = new LinkedHashMap<>();
    private boolean there;

    Hooks(Container container) {
        beans = container.beans;
        strategy = beans.getInstantiationStrategy();
        watchedStrategy = new WatchedInstantiation(container, strategy);
        startup = beans.getApplicationStartup();
        watchedStartup = new WatchedStartup(container, startup);
        put();
    }

    /** Has what injection points ask for be watched, too. */
    synchronized void watch(AutowireCandidateResolver by) {
        resolver = beans.getAutowireCandidateResolver();
        watchedResolver = by;
        beans.setAutowireCandidateResolver(by);
    }

    /** Has a scope be watched, too. */
    synchronized void watch(String name, Scope scope, Scope by) {
        scopes.put(name, scope);
        watchedScopes.put(name, by);
        beans.registerScope(name, by);
    }

    synchronized void put() {
        if (there) return;
        there = true;
        if (beans.getInstantiationStrategy() == strategy) beans.setInstantiationStrategy(watchedStrategy);
        if (beans.getApplicationStartup() == startup) beans.setApplicationStartup(watchedStartup);
        if (resolver != null && beans.getAutowireCandidateResolver() == resolver)
            beans.setAutowireCandidateResolver(watchedResolver);
        replace(scopes, watchedScopes);
        beans.getBeanPostProcessors()
                .replaceAll(processor -> processor instanceof Resting.Absent absent ? absent.of() : processor);
    }

    /** Gives the factory back what it had, unless it has been replaced. */
    synchronized void takeAway() {
        if (!there) return;
        there = false;
        if (beans.getInstantiationStrategy() == watchedStrategy) beans.setInstantiationStrategy(strategy);
        if (beans.getApplicationStartup() == watchedStartup) beans.setApplicationStartup(startup);
        if (resolver != null && beans.getAutowireCandidateResolver() == watchedResolver)
            beans.setAutowireCandidateResolver(resolver);
        replace(watchedScopes, scopes);
        beans.getBeanPostProcessors()
                .replaceAll(
                        processor -> processor instanceof Resting resting ? new Resting.Absent(resting) : processor);
    }

    private void replace(Map<String, Scope> these, Map<String, Scope> by) {
        these.forEach((name, scope) -> {
            if (beans.getRegisteredScope(name) == scope) beans.registerScope(name, by.get(name));
        });
    }
}
