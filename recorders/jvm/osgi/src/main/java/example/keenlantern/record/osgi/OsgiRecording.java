package example.keenlantern.record.osgi;

import example.keenlantern.record.Recorder;
import java.io.IOException;
import java.time.Duration;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.LinkedBlockingQueue;
import java.util.concurrent.TimeUnit;
import org.osgi.framework.AllServiceListener;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleContext;
import org.osgi.framework.BundleEvent;
import org.osgi.framework.Constants;
import org.osgi.framework.ServiceEvent;
import org.osgi.framework.ServiceReference;
import org.osgi.framework.SynchronousBundleListener;
import org.osgi.service.component.runtime.ServiceComponentRuntime;

/**
 * Records the declarative services of a framework: what their runtime reports of components, their configurations and what is bound to
 * them. It is read whenever a service comes, changes or goes, and ten times a second besides, by its own thread.
 */
public final class OsgiRecording implements AutoCloseable {
    private static final long EVERY = 100; // ms
    private static final Duration END = Duration.ofSeconds(5);

    private final BundleContext context;
    private final Recorder recorder;
    private final boolean ends;
    private final Map<ServiceReference<?>, Components> runtimes = new ConcurrentHashMap<>();
    private final LinkedBlockingQueue<CountDownLatch> wanted = new LinkedBlockingQueue<>(1024);
    private final AllServiceListener services = this::serviceChanged;
    private final SynchronousBundleListener bundles = this::bundleChanged;
    private final Thread thread = new Thread(this::read, "keenlantern-components");
    private volatile boolean closed;

    private OsgiRecording(BundleContext context, Recorder recorder, boolean ends) {
        this.context = context;
        this.recorder = recorder;
        this.ends = ends;
    }

    /**
     * Records a framework, with a recorder that the application closes.
     *
     * @param context the system bundle's context, or that of a bundle that is stopped last
     */
    public static OsgiRecording record(BundleContext context, Recorder recorder) {
        return start(new OsgiRecording(context, recorder, false));
    }

    /** Records a framework, and closes the recorder when the framework has stopped. */
    public static OsgiRecording recordAll(BundleContext context, Recorder recorder) {
        return start(new OsgiRecording(context, recorder, true));
    }

    private static OsgiRecording start(OsgiRecording recording) {
        recording.recorder.attach();
        recording.context.addServiceListener(recording.services);
        recording.context.addBundleListener(recording.bundles);
        recording.find();
        recording.thread.setDaemon(true);
        recording.thread.start();
        return recording;
    }

    // A framework may have several runtimes: each is a container.
    private void find() {
        try {
            ServiceReference<?>[] found =
                    context.getAllServiceReferences(ServiceComponentRuntime.class.getName(), null);
            if (found != null) for (ServiceReference<?> runtime : found) add(runtime);
        } catch (org.osgi.framework.InvalidSyntaxException e) {
            throw new IllegalStateException(e); // there is no filter
        }
    }

    private void add(ServiceReference<?> runtime) {
        runtimes.computeIfAbsent(runtime, r -> {
            Object service = context.getService(r);
            return service instanceof ServiceComponentRuntime components
                    ? new Components(
                            recorder,
                            context,
                            components,
                            "components of " + r.getBundle().getSymbolicName())
                    : null;
        });
    }

    private void serviceChanged(ServiceEvent event) {
        ServiceReference<?> reference = event.getServiceReference();
        boolean runtime = false;
        for (String name : (String[]) reference.getProperty(Constants.OBJECTCLASS))
            if (name.equals(ServiceComponentRuntime.class.getName())) runtime = true;
        if (runtime && event.getType() == ServiceEvent.REGISTERED) add(reference);
        if (event.getType() == ServiceEvent.UNREGISTERING) {
            if (runtime) {
                Components gone = runtimes.remove(reference);
                if (gone != null) gone.end();
                over();
            }
            long id = (Long) reference.getProperty(Constants.SERVICE_ID);
            for (Components components : runtimes.values()) components.going(id);
        }
        wanted.offer(new CountDownLatch(0));
    }

    private void bundleChanged(BundleEvent event) {
        if (event.getType() == BundleEvent.STOPPING && event.getBundle().getBundleId() == 0) {
            recorder.closing();
            over();
        }
        wanted.offer(new CountDownLatch(0));
    }

    // A framework that stops reports no later event than that its last runtime has gone.
    private void over() {
        if (ends && runtimes.isEmpty() && context.getBundle(0).getState() == Bundle.STOPPING) close();
    }

    private void read() {
        List<CountDownLatch> done = new ArrayList<>();
        while (!closed) {
            try {
                CountDownLatch first = wanted.poll(EVERY, TimeUnit.MILLISECONDS);
                if (first != null) done.add(first);
                wanted.drainTo(done);
                for (Components components : new HashSet<>(runtimes.values())) components.read(!done.isEmpty());
            } catch (InterruptedException e) {
                return;
            } catch (RuntimeException | LinkageError e) {
                if (!closed) recorder.trouble(e); // a framework that is changing: it is read again
            }
            done.forEach(CountDownLatch::countDown);
            done.clear();
        }
    }

    /** Waits until everything that has happened so far has been read; it returns whether it was in time. */
    public boolean settle(Duration within) throws InterruptedException {
        CountDownLatch mine = new CountDownLatch(1);
        return wanted.offer(mine, within.toMillis(), TimeUnit.MILLISECONDS)
                && mine.await(within.toMillis(), TimeUnit.MILLISECONDS);
    }

    /** Ends the recording of this framework. */
    @Override
    public void close() {
        if (closed) return;
        closed = true;
        thread.interrupt();
        try {
            context.removeServiceListener(services);
            context.removeBundleListener(bundles);
        } catch (IllegalStateException e) {
            // The framework has stopped.
        }
        recorder.detach();
        boolean whole = runtimes.isEmpty();
        Set<Components> left = new HashSet<>(runtimes.values());
        for (Components components : left) whole &= components.over();
        if (!ends) return;
        try {
            recorder.close(END, whole ? "" : "recording was switched off");
        } catch (IOException e) {
            recorder.trouble(e);
        }
    }
}
