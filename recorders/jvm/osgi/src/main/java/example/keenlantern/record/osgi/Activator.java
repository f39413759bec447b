package example.keenlantern.record.osgi;

import example.keenlantern.record.Config;
import example.keenlantern.record.Recorder;
import java.io.IOException;
import java.nio.file.Path;
import org.osgi.framework.BundleActivator;
import org.osgi.framework.BundleContext;

/**
 * Records the framework that this bundle is started in, where {@code keenlantern.application} and {@code keenlantern.service} (or
 * {@code keenlantern.output}) are set as framework or system properties. It is to be started before the application's bundles.
 */
public final class Activator implements BundleActivator {
    /** One for a framework. */
    public Activator() {}

    @Override
    public void start(BundleContext context) throws IOException {
        String app = context.getProperty("keenlantern.application");
        String service = context.getProperty("keenlantern.service");
        String output = context.getProperty("keenlantern.output");
        if (service == null && output == null) return;
        if (app == null)
            throw new IllegalStateException(
                    "keenlantern.service is set, but the application has no name; set" + " keenlantern.application");
        Config config = Recorder.forApplication(app)
                .version(context.getProperty("keenlantern.version"))
                .environment(context.getProperty("keenlantern.environment"))
                .token(context.getProperty("keenlantern.token"));
        if (output == null) config.service(service);
        else config.output(Path.of(output));
        if (Boolean.parseBoolean(context.getProperty("keenlantern.off"))) config.off();
        // The recording outlives this bundle: it ends with the framework, when all components have ended.
        OsgiRecording.recordAll(context.getBundle(0).getBundleContext(), config.start());
    }

    @Override
    public void stop(BundleContext context) {
        // The framework's own end is what ends the recording.
    }
}
