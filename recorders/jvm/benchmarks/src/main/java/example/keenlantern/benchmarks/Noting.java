package example.keenlantern.benchmarks;

import ch.qos.logback.classic.LoggerContext;
import ch.qos.logback.classic.encoder.JsonEncoder;
import ch.qos.logback.classic.spi.ILoggingEvent;
import ch.qos.logback.classic.util.LogbackMDCAdapter;
import ch.qos.logback.core.OutputStreamAppender;
import example.keenlantern.record.Event;
import example.keenlantern.record.Recorder;
import java.io.IOException;
import java.io.OutputStream;
import java.util.concurrent.TimeUnit;
import org.openjdk.jmh.annotations.Benchmark;
import org.openjdk.jmh.annotations.BenchmarkMode;
import org.openjdk.jmh.annotations.Fork;
import org.openjdk.jmh.annotations.Level;
import org.openjdk.jmh.annotations.Measurement;
import org.openjdk.jmh.annotations.Mode;
import org.openjdk.jmh.annotations.OutputTimeUnit;
import org.openjdk.jmh.annotations.Scope;
import org.openjdk.jmh.annotations.Setup;
import org.openjdk.jmh.annotations.State;
import org.openjdk.jmh.annotations.TearDown;
import org.openjdk.jmh.annotations.Warmup;
import org.slf4j.Logger;

/**
 * What noting an event costs, beside a log line with the same fields as JSON that goes nowhere. A hundred at a time, and no more than
 * can be written behind them.
 */
@State(Scope.Thread)
@BenchmarkMode(Mode.SingleShotTime)
@OutputTimeUnit(TimeUnit.NANOSECONDS)
@Warmup(iterations = 4000)
@Measurement(iterations = 4000)
@Fork(3)
public class Noting {
    private static final int BATCH = 100;

    private Recorder recorder;
    private Logger log;
    private LoggerContext context;
    private long reg;
    private long scope;
    private long inst;

    /** Sets both up. */
    @Setup
    public void begin() throws IOException {
        recorder = Recorder.forApplication("harbour")
                .output(OutputStream.nullOutputStream())
                .noExitHook()
                .start();
        reg = recorder.register(new Event.Register().service("TideSource").lifetime(Event.Lifetime.SCOPED));
        scope = recorder.open(new Event.Open().kind("request").name("GET /tides"));
        inst = recorder.make(new Event.Make().reg(reg).scope(scope));

        context = new LoggerContext();
        context.setMDCAdapter(new LogbackMDCAdapter()); // as an application has it
        JsonEncoder encoder = new JsonEncoder();
        encoder.setContext(context);
        encoder.setWithMessage(false);
        encoder.setWithContext(false);
        encoder.setWithThreadName(false);
        encoder.setWithMDC(false);
        encoder.setWithArguments(false);
        encoder.setWithSequenceNumber(false);
        encoder.setWithNanoseconds(false);
        encoder.start();
        OutputStreamAppender<ILoggingEvent> appender = new OutputStreamAppender<>();
        appender.setContext(context);
        appender.setEncoder(encoder);
        appender.setOutputStream(OutputStream.nullOutputStream());
        appender.start();
        ch.qos.logback.classic.Logger root = context.getLogger(Logger.ROOT_LOGGER_NAME);
        root.addAppender(appender);
        log = context.getLogger("harbour");
    }

    /** Lets what was noted be written, as it is between requests. */
    @Setup(Level.Iteration)
    public void rest() {
        recorder.flush(java.time.Duration.ofSeconds(5));
    }

    /** Ends both. */
    @TearDown
    public void end() {
        if (recorder.totals().lost() > 0)
            throw new IllegalStateException("events were dropped: that is not what noting costs");
        recorder.close();
        context.stop();
    }

    /** A call, noted. */
    @Benchmark
    public void callNoted() {
        for (int n = 0; n < BATCH; n++) recorder.use(inst, inst, scope, 90);
    }

    /** A call, logged. */
    @Benchmark
    public void callLogged() {
        for (int n = 0; n < BATCH; n++)
            log.atInfo()
                    .addKeyValue("ev", "use")
                    .addKeyValue("inst", inst)
                    .addKeyValue("by", inst)
                    .addKeyValue("scope", scope)
                    .addKeyValue("ns", 90)
                    .log();
    }

    /** An instance, noted. */
    @Benchmark
    public void instanceNoted() {
        for (int n = 0; n < BATCH; n++)
            recorder.make(new Event.Make().reg(reg).scope(scope).ns(90).impl("GaugeTides"));
    }

    /** An instance, logged. */
    @Benchmark
    public void instanceLogged() {
        for (int n = 0; n < BATCH; n++)
            log.atInfo()
                    .addKeyValue("ev", "make")
                    .addKeyValue("reg", reg)
                    .addKeyValue("scope", scope)
                    .addKeyValue("ns", 90)
                    .addKeyValue("impl", "GaugeTides")
                    .log();
    }
}
