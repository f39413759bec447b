package example.keenlantern.record.spring;

import example.keenlantern.record.Config;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Setting;
import java.io.IOException;
import java.lang.System.Logger.Level;
import java.nio.file.Files;
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
    private static final int MOST_FILES = 1000;
    private static final System.Logger LOG = System.getLogger(KeenLanternInitializer.class.getName());

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
        try {
            SpringRecording.recordAll(context, start(env, service, output));
        } catch (IllegalArgumentException | IOException e) {
            // A wrong setting keeps no application from starting.
            LOG.log(Level.WARNING, "nothing is recorded for Keen Lantern: " + e.getMessage());
        }
    }

    private static Recorder start(Environment env, String service, String output) throws IOException {
        String app = env.getProperty(PREFIX + "application", env.getProperty("spring.application.name", ""));
        if (app.isEmpty())
            throw new IllegalArgumentException(
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
        if (!output.isEmpty()) return config.output(free(Path.of(output))).start();
        try {
            return config.service(service).start();
        } catch (IllegalArgumentException e) {
            throw new IllegalArgumentException(
                    "keenlantern.service is '" + service + "'; set it to an address such as http://lantern:7460", e);
        }
    }

    // A second start writes beside what the first one wrote: trace.ndjson.gz, trace-2.ndjson.gz.
    private static Path free(Path path) throws IOException {
        String name = path.getFileName().toString();
        int dot = name.indexOf('.', 1);
        String stem = dot < 0 ? name : name.substring(0, dot);
        String ending = dot < 0 ? "" : name.substring(dot);
        Path at = path;
        for (int n = 2; Files.exists(at); n++) {
            if (n > MOST_FILES)
                throw new IOException(
                        "keenlantern.output: " + path + " and " + MOST_FILES + " files beside it are there");
            at = path.resolveSibling(stem + "-" + n + ending);
        }
        return at;
    }

    private static String profile(Environment env) {
        String[] active = env.getActiveProfiles();
        return active.length == 1 ? active[0] : null;
    }
}
