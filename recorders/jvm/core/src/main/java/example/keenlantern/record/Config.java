package example.keenlantern.record;

import java.io.IOException;
import java.io.OutputStream;
import java.lang.invoke.MethodHandle;
import java.lang.invoke.MethodHandles;
import java.lang.invoke.MethodType;
import java.net.URI;
import java.nio.file.Path;
import java.time.Duration;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Consumer;
import java.util.function.Supplier;

/** What is recorded and where it goes. Either a service or an output is given. */
public final class Config {
    final String app;
    String version;
    String environment;
    Map<String, String> labels = Map.of();
    List<String> sees;
    Set<String> uses = Set.of();
    URI service;
    String token;
    Path file;
    OutputStream output;
    boolean off;
    Setting setting = Setting.ON;
    boolean alone;
    int memory = 8 << 20;
    int batchSize = 1 << 20;
    Duration flushWait = Duration.ofMillis(200);
    Duration timeout = Duration.ofSeconds(10);
    boolean exitHook = true;
    boolean hideUnregistered;
    Consumer<Throwable> problem;
    private Supplier<String> traces;

    Config(String app) {
        if (app == null || app.isBlank())
            throw new IllegalArgumentException("start recording: the application's name is empty");
        this.app = app;
    }

    /** The application's version. */
    public Config version(String version) {
        this.version = version;
        return this;
    }

    /** Such as "production" or "test". */
    public Config environment(String environment) {
        this.environment = environment;
        return this;
    }

    /** Anything that helps to distinguish recordings. */
    public Config labels(Map<String, String> labels) {
        this.labels = Map.copyOf(labels);
        return this;
    }

    /** What is seen, see the trace format; unless given: what adapters see, which is neither calls nor hand-outs of what exists. */
    public Config sees(List<String> sees) {
        this.sees = List.copyOf(sees);
        return this;
    }

    /**
     * Calls are recorded of the services with these names, or of all with "*", where an adapter can have an object stand in for what
     * is built.
     */
    public Config uses(Set<String> services) {
        this.uses = Set.copyOf(services);
        return this;
    }

    /** The address of a Keen Lantern service, such as {@code http://lantern:7460}. */
    public Config service(String address) {
        URI uri = URI.create(address.replaceAll("/+$", ""));
        if (uri.getHost() == null || !("http".equals(uri.getScheme()) || "https".equals(uri.getScheme())))
            throw new IllegalArgumentException(
                    "start recording: service is '" + address + "'; give an address such as http://lantern:7460");
        this.service = uri;
        return this;
    }

    /** Sent as a bearer token where the service asks for one. */
    public Config token(String token) {
        this.token = token;
        return this;
    }

    /** Records to a file that is not there yet, instead of a service; compressed where its name ends in .gz. */
    public Config output(Path file) {
        this.file = file;
        return this;
    }

    /** Records to a stream, instead of a service. It is flushed and not closed. */
    public Config output(OutputStream output) {
        this.output = output;
        return this;
    }

    /** Begins without recording; the service, or {@link Recorder#set}, switches it on. */
    public Config off() {
        this.off = true;
        return this;
    }

    /** How it records unless an order says otherwise. */
    public Config setting(Setting setting) {
        this.setting = setting;
        this.off = !setting.on();
        return this;
    }

    /** Keeps the service from switching this recorder: it is not asked. */
    public Config alone() {
        this.alone = true;
        return this;
    }

    /**
     * Writes "(not registered)" for every service or key that is asked for and not registered: it may come from a request. Otherwise the
     * first 256 different ones are written.
     */
    public Config hideUnregistered() {
        this.hideUnregistered = true;
        return this;
    }

    /** Bytes that it takes up at most; 8 MiB unless given, 256 KiB at least. */
    public Config memory(int bytes) {
        this.memory = Math.max(256 << 10, bytes);
        return this;
    }

    /** Bytes of lines after which a batch is sent without waiting; 1 MiB unless given. */
    public Config batchSize(int bytes) {
        this.batchSize = bytes;
        return this;
    }

    /** How long an event waits for its batch to fill; 200 ms unless given. */
    public Config flushWait(Duration wait) {
        this.flushWait = wait;
        return this;
    }

    /** How long the service may take to answer; 10 s unless given. */
    public Config timeout(Duration timeout) {
        this.timeout = timeout;
        return this;
    }

    /** Leaves the end of the process alone: what was recorded last is lost unless the recorder is closed. */
    public Config noExitHook() {
        this.exitHook = false;
        return this;
    }

    /** Gets problems with recording, at most one a second. Unless given, the first problem goes to the runtime's logger. */
    public Config problem(Consumer<Throwable> problem) {
        this.problem = problem;
        return this;
    }

    /** Returns the current trace-id, null for none. Unless given: that of OpenTelemetry's current span. */
    public Config traces(Supplier<String> traces) {
        this.traces = traces;
        return this;
    }

    /**
     * Starts recording.
     *
     * @throws IOException where the file cannot be made
     */
    public Recorder start() throws IOException {
        int ways = (service == null ? 0 : 1) + (file == null ? 0 : 1) + (output == null ? 0 : 1);
        if (ways != 1) throw new IllegalArgumentException("start recording: give either a service or one output");
        if (traces == null) traces = openTelemetry();
        return new Recorder(this);
    }

    String traces() {
        try {
            String trace = traces.get();
            return trace == null || trace.length() != 32 || trace.equals("0".repeat(32)) ? null : trace;
        } catch (RuntimeException e) {
            return null; // work goes on whatever it is called
        }
    }

    // OpenTelemetry is asked where it is there; it is not needed.
    private static Supplier<String> openTelemetry() {
        try {
            ClassLoader loader = Thread.currentThread().getContextClassLoader();
            if (loader == null) loader = Config.class.getClassLoader();
            Class<?> span = Class.forName("io.opentelemetry.api.trace.Span", true, loader);
            Class<?> context = Class.forName("io.opentelemetry.api.trace.SpanContext", true, loader);
            MethodHandles.Lookup lookup = MethodHandles.publicLookup();
            MethodHandle current = lookup.findStatic(span, "current", MethodType.methodType(span));
            MethodHandle contextOf = lookup.findVirtual(span, "getSpanContext", MethodType.methodType(context));
            MethodHandle traceId = lookup.findVirtual(context, "getTraceId", MethodType.methodType(String.class));
            MethodHandle all =
                    MethodHandles.filterReturnValue(MethodHandles.filterReturnValue(current, contextOf), traceId);
            return () -> {
                try {
                    return (String) all.invokeExact();
                } catch (Throwable e) {
                    return null; // it has its own trouble
                }
            };
        } catch (ReflectiveOperationException | LinkageError e) {
            return () -> null;
        }
    }
}
