package example.keenlantern.record.spring;

import example.keenlantern.record.Recorder;
import java.io.IOException;
import java.lang.System.Logger.Level;
import java.time.Duration;
import org.springframework.beans.factory.config.ConfigurableListableBeanFactory;
import org.springframework.beans.factory.support.BeanDefinitionRegistry;
import org.springframework.beans.factory.support.BeanDefinitionRegistryPostProcessor;
import org.springframework.beans.factory.support.DefaultListableBeanFactory;
import org.springframework.beans.factory.support.RootBeanDefinition;
import org.springframework.context.ApplicationContext;
import org.springframework.context.ApplicationListener;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.event.ApplicationContextEvent;
import org.springframework.context.event.ContextClosedEvent;
import org.springframework.context.event.ContextRefreshedEvent;

/**
 * Records an application context: its beans, their scopes, what each is given, and their destruction.
 *
 * <p>With Spring Boot there is nothing to write: the jar and {@code keenlantern.service} are enough. Any other application calls
 * {@link #record} before it refreshes its context.
 */
public final class SpringRecording {
    static final String NAME = "example.keenlantern.recording";
    private static final String BEANS = "example.keenlantern.beans";
    private static final System.Logger LOG = System.getLogger(SpringRecording.class.getName());
    private static final Duration END = Duration.ofSeconds(5);

    final Recorder recorder;
    private final ConfigurableApplicationContext context;
    private final boolean ends;
    private Container container; // once there is a bean factory
    private boolean refreshed;
    private boolean noticed;

    private SpringRecording(ConfigurableApplicationContext context, Recorder recorder, boolean ends) {
        this.context = context;
        this.recorder = recorder;
        this.ends = ends;
    }

    /** Records a context that has not been refreshed yet, with a recorder that the application closes. */
    public static void record(ConfigurableApplicationContext context, Recorder recorder) {
        install(context, recorder, false);
    }

    /** Records a context that has not been refreshed yet, and closes the recorder when the context has been closed. */
    public static void recordAll(ConfigurableApplicationContext context, Recorder recorder) {
        install(context, recorder, true);
    }

    private static void install(ConfigurableApplicationContext context, Recorder recorder, boolean ends) {
        SpringRecording recording = new SpringRecording(context, recorder, ends);
        recorder.attach();
        context.addBeanFactoryPostProcessor(recording.new Installer());
        context.addApplicationListener(recording.new Listener());
    }

    /** The recording of a context, null for none. */
    static SpringRecording of(ApplicationContext context) {
        return context instanceof ConfigurableApplicationContext c
                        && c.getBeanFactory().getSingleton(NAME) instanceof SpringRecording recording
                ? recording
                : null;
    }

    /** The recorder. */
    public Recorder recorder() {
        return recorder;
    }

    ConfigurableListableBeanFactory beans() {
        return container.beans;
    }

    Scopes scopes() {
        return container.scopes;
    }

    private final class Installer implements BeanDefinitionRegistryPostProcessor {
        @Override
        public void postProcessBeanDefinitionRegistry(BeanDefinitionRegistry registry) {
            if (!(context.getBeanFactory() instanceof DefaultListableBeanFactory beans)) {
                recorder.trouble(new IllegalStateException(
                        "nothing of " + context.getId() + " is recorded: its bean factory is one of its own kind"));
                return;
            }
            SpringRecording around = context.getParent() == null ? null : of(context.getParent());
            container = new Container(recorder, beans, context.getId(), around == null ? null : around.container);
            beans.registerSingleton(NAME, SpringRecording.this);
            // What is registered first is destroyed last.
            beans.registerDisposableBean(NAME, SpringRecording.this::destroyed);
            container.watch();
            RootBeanDefinition processor = new RootBeanDefinition(WatchedBeans.class, this::complete);
            processor.setRole(RootBeanDefinition.ROLE_INFRASTRUCTURE);
            registry.registerBeanDefinition(BEANS, processor);
        }

        @Override
        public void postProcessBeanFactory(ConfigurableListableBeanFactory beans) {
            // All is done above.
        }

        // All definitions are there, and nothing but what processes them has been built.
        private WatchedBeans complete() {
            try {
                container.watchAll();
                container.beans.addBeanPostProcessor(new WatchedEnds(container));
                container.registerAll();
            } catch (RuntimeException | LinkageError e) {
                recorder.trouble(e); // the application goes on as ever
            }
            return new WatchedBeans(container);
        }
    }

    private final class Listener implements ApplicationListener<ApplicationContextEvent> {
        @Override
        public void onApplicationEvent(ApplicationContextEvent event) {
            if (event.getApplicationContext() != context) {
                if (event instanceof ContextRefreshedEvent) notice(event.getApplicationContext());
                return;
            }
            if (event instanceof ContextRefreshedEvent) refreshed = true;
            if (event instanceof ContextClosedEvent && ends) recorder.closing();
        }
    }

    // A context publishes its events to the ones around it, too.
    private void notice(ApplicationContext child) {
        if (child.getParent() != context || of(child) != null || noticed) return;
        noticed = true; // frameworks make one for each of many clients
        LOG.log(
                Level.INFO,
                "the context '" + child.getId() + "' inside of '" + context.getId() + "' is not recorded; call"
                        + " new KeenLanternInitializer().initialize(child) before its refresh");
    }

    private void destroyed() {
        container.end();
        recorder.detach();
        if (!ends) return;
        try {
            recorder.close(END, refreshed ? "" : "start failed");
        } catch (IOException e) {
            recorder.trouble(e);
        }
    }
}
