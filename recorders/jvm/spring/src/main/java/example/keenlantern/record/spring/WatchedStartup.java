package example.keenlantern.record.spring;

import java.util.function.Supplier;
import org.springframework.beans.factory.BeanFactoryUtils;
import org.springframework.core.metrics.ApplicationStartup;
import org.springframework.core.metrics.StartupStep;

/** Sees when a bean begins to be asked for where that may build one, and when that has ended or failed. */
final class WatchedStartup implements ApplicationStartup {
    private static final String INSTANTIATE = "spring.beans.instantiate";

    private final Container container;
    private final ApplicationStartup startup;

    WatchedStartup(Container container, ApplicationStartup startup) {
        this.container = container;
        this.startup = startup;
    }

    @Override
    public StartupStep start(String name) {
        StartupStep step = startup.start(name);
        return name.equals(INSTANTIATE) && !container.passesAll() ? new Step(step) : step;
    }

    private final class Step implements StartupStep {
        private final StartupStep step;
        private Building building;
        private String exception;

        Step(StartupStep step) {
            this.step = step;
        }

        @Override
        public String getName() {
            return step.getName();
        }

        @Override
        public long getId() {
            return step.getId();
        }

        @Override
        public Long getParentId() {
            return step.getParentId();
        }

        @Override
        public StartupStep tag(String key, String value) {
            step.tag(key, value);
            if (key.equals("beanName")) {
                if (container.passes(value)) return this; // mostly the name itself
                String name = container.beans.canonicalName(BeanFactoryUtils.transformedBeanName(value));
                if (container.passes(name)) return this;
                building = Building.begin(container, name);
                if (building.around == null) building.provider = container.takeProvider(name);
            } else if (key.equals("exception")) exception = value;
            return this;
        }

        @Override
        public StartupStep tag(String key, Supplier<String> value) {
            step.tag(key, value);
            if (building != null && key.equals("beanType")) building.type = value;
            return this;
        }

        @Override
        public Tags getTags() {
            return step.getTags();
        }

        @Override
        public void end() {
            if (building != null) {
                try {
                    container.ended(building, exception);
                } catch (RuntimeException | LinkageError e) {
                    container.recorder.trouble(e);
                    building.end();
                }
            }
            step.end();
        }
    }
}
