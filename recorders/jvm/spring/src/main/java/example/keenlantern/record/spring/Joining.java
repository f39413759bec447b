package example.keenlantern.record.spring;

import example.keenlantern.record.Recorder;
import org.springframework.beans.factory.DisposableBean;
import org.springframework.beans.factory.config.ConfigurableListableBeanFactory;
import org.springframework.core.Ordered;

/** Joins beans of some kind from when something is recorded: those that are built then, and the singletons that are there already. */
abstract class Joining implements Resting, Ordered, DisposableBean {
    final Recorder recorder;
    private final ConfigurableListableBeanFactory beans;
    private final Runnable unwatched;

    Joining(SpringRecording recording) {
        recorder = recording.recorder;
        beans = recording.beans();
        unwatched = recorder.whenSwitched(this::joinAll, () -> {});
    }

    /** Joins a bean if it is of this kind, and has not been joined. */
    abstract void join(Object bean, String name);

    @Override
    public int getOrder() {
        return LOWEST_PRECEDENCE; // the beans' proxies are there by then
    }

    @Override
    public Object postProcessAfterInitialization(Object bean, String name) {
        if (recorder.on()) join(bean, name);
        return bean;
    }

    private void joinAll() {
        for (String name : beans.getSingletonNames()) {
            Object bean = beans.getSingleton(name);
            if (bean != null) join(bean, name);
        }
    }

    @Override
    public void destroy() {
        unwatched.run();
    }
}
