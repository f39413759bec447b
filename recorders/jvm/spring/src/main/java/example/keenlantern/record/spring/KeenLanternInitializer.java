package example.keenlantern.record.spring;

import example.keenlantern.record.Config;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Setting;
import java.io.IOException;
import java.nio.file.Path;
import java.util.Set;
import org.springframework.context.ApplicationContextInitializer;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.core.Ordered;
import org.springframework.core.env.Environment;
import org.springframework.util.StringUtils;

/**
 * Records an application whose environment has {@code keenlantern.service} or {@code keenlantern.output}, or that is started while a
 * recorder is {@linkplain Recorder#install installed}. Spring Boot finds it by itself; other applications name it among their
 * context initializers.
 */
public final class KeenLanternInitializer
        implements ApplicationContextInitializer<ConfigurableApplicationContext>, Ordered {
    private static final String PREFIX = "keenlantern.";

    /** One for any context. */
    public KeenLanternInitializer() {}

    @Override
    public int getOrder() {
        return HIGHEST_PRECEDENCE + 10; // behind the one that sets the parent
    }

    @Override
    public void initialize(ConfigurableApplicationContext context) {
        SpringRecording around = context.getParent() == null ? null : SpringRecording.of(context.getParent());
        if (around != null) {
            SpringRecording.record(context, around.recorder);
            return;
        }
        Recorder installed = Recorder.installed();
        if (installed != null) {
            SpringRecording.record(context, installed);
            return;
        }
        Environment env = context.getEnvironment();
        String service = env.getProperty(PREFIX + "service", "");
        String output = env.getProperty(PREFIX + "output", "");
        if (service.isEmpty() && output.isEmpty()) return;
        SpringRecording.recordAll(context, start(env, service, output));
    }

    private static Recorder start(Environment env, String service, String output) {
        String app = env.getProperty(PREFIX + "application", env.getProperty("spring.application.name", ""));
        if (app.isEmpty())
            throw new IllegalStateException(
                    "keenlantern.service is set, but the application has no name; set keenlantern.application or"
                            + " spring.application.name");
        Config config = Recorder.forApplication(app)
                .version(env.getProperty(PREFIX + "version"))
                .environment(env.getProperty(PREFIX + "environment", profile(env)))
                .token(env.getProperty(PREFIX + "token"))
                .uses(Set.copyOf(StringUtils.commaDelimitedListToSet(
                        StringUtils.trimAllWhitespace(env.getProperty(PREFIX + "uses", "")))));
        double share = env.getProperty(PREFIX + "share", Double.class, 0.0);
        if (share > 0) config.setting(Setting.ON.share(share));
        if (env.getProperty(PREFIX + "off", Boolean.class, false)) config.off();
        if (env.getProperty(PREFIX + "hide-unregistered", Boolean.class, false)) config.hideUnregistered();
        if (output.isEmpty()) config.service(service);
        else config.output(Path.of(output));
        try {
            return config.start();
        } catch (IOException e) {
            throw new IllegalStateException("keenlantern.output: " + e.getMessage(), e);
        }
    }

    private static String profile(Environment env) {
        String[] active = env.getActiveProfiles();
        return active.length == 1 ? active[0] : null;
    }
}
