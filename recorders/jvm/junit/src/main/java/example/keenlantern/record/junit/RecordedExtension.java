package example.keenlantern.record.junit;

import example.keenlantern.record.Recorder;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashSet;
import java.util.List;
import java.util.Set;
import org.junit.jupiter.api.extension.AfterAllCallback;
import org.junit.jupiter.api.extension.AfterEachCallback;
import org.junit.jupiter.api.extension.BeforeAllCallback;
import org.junit.jupiter.api.extension.BeforeEachCallback;
import org.junit.jupiter.api.extension.ExtensionContext;
import org.junit.jupiter.api.extension.ExtensionContext.Namespace;
import org.junit.jupiter.api.extension.ParameterContext;
import org.junit.jupiter.api.extension.ParameterResolver;
import org.junit.platform.commons.support.AnnotationSupport;

/** Does what {@link Recorded} says. */
final class RecordedExtension
        implements BeforeAllCallback, AfterAllCallback, BeforeEachCallback, AfterEachCallback, ParameterResolver {
    private static final Namespace NAMESPACE = Namespace.create(RecordedExtension.class);
    private static final Duration END = Duration.ofSeconds(10);

    RecordedExtension() {}

    /** A recording, and what fails it. */
    private static final class Recording implements AutoCloseable {
        final Recorder recorder;
        final Path trace;
        final Recorder before = Recorder.installed();
        final Set<String> accepted = new HashSet<>();
        final String failOn;
        final String contract;
        boolean ended;

        Recording(Recorded how, String name) {
            accept(how);
            failOn = how.failOn();
            contract = how.contract();
            trace = folder().resolve(name + ".ndjson.gz");
            try {
                Files.createDirectories(trace.getParent());
                Files.deleteIfExists(trace);
                recorder = Recorder.forApplication(how.application().isEmpty() ? name : how.application())
                        .environment("test")
                        .output(trace)
                        .noExitHook()
                        .start();
            } catch (IOException e) {
                throw new UncheckedIOException("record " + name, e);
            }
            Recorder.install(recorder);
        }

        void accept(Recorded how) {
            accepted.addAll(Arrays.asList(how.accepted()));
        }

        /** Ends it and checks it. */
        @Override
        public void close() throws IOException, InterruptedException {
            if (ended) return;
            ended = true;
            Recorder.install(before);
            // A container that is kept for other tests goes on: what is alive in it is not left behind.
            recorder.close(END, recorder.attached() ? "recording was switched off" : "");
            check();
        }

        private void check() throws IOException, InterruptedException {
            // Which findings there are, and what is to be said of them.
            Set<String> failing = new HashSet<>();
            for (String line : run("csv").lines().skip(1).toList()) {
                String[] fields = line.split(",", 4); // severity, rule and id; the rest may go over several lines
                if (fields.length == 4
                        && fields[2].matches("[0-9a-z]{12}")
                        && counts(fields[0])
                        && !accepted.contains(fields[2])) failing.add(fields[2]);
            }
            if (failing.isEmpty()) return;
            List<String> said = new ArrayList<>();
            for (String part : run("text").split("\n\n")) {
                String first = part.strip().lines().findFirst().orElse("");
                if (failing.stream().anyMatch(first::endsWith)) said.add(part.strip());
            }
            throw new AssertionError((failing.size() == 1 ? "1 finding" : failing.size() + " findings") + " in " + trace
                    + ":\n\n" + String.join("\n\n", said));
        }

        private boolean counts(String severity) {
            List<String> worst = List.of("note", "warning", "error");
            return worst.indexOf(severity) >= worst.indexOf(failOn);
        }

        private String run(String format) throws IOException, InterruptedException {
            Process process;
            List<String> command = new ArrayList<>(
                    List.of(command(), "check", trace.toString(), "--format", format, "--fail-on", "never"));
            if (!contract.isEmpty()) command.addAll(List.of("--contract", contract));
            try {
                process = new ProcessBuilder(command)
                        .redirectError(ProcessBuilder.Redirect.INHERIT)
                        .start();
            } catch (IOException e) {
                throw new IOException(
                        "check the recording " + trace + ": there is no command " + command()
                                + "; install keenlantern, or name it in the system property keenlantern.command",
                        e);
            }
            process.getOutputStream().close();
            String out = new String(process.getInputStream().readAllBytes(), java.nio.charset.StandardCharsets.UTF_8);
            int status = process.waitFor(); // 1: the contract is broken, which is among the findings
            if (status != 0 && (status != 1 || contract.isEmpty()))
                throw new IOException("check the recording " + trace + ": " + out);
            return out;
        }
    }

    private static String command() {
        String named = System.getProperty("keenlantern.command", System.getenv("KEENLANTERN_COMMAND"));
        return named == null || named.isEmpty() ? "keenlantern" : named;
    }

    // Where build tools keep what they make.
    private static Path folder() {
        for (String name : List.of("target", "build"))
            if (Files.isDirectory(Path.of(name))) return Path.of(name, "keenlantern");
        return Path.of(System.getProperty("java.io.tmpdir"), "keenlantern");
    }

    private static Recorded of(ExtensionContext context) {
        return AnnotationSupport.findAnnotation(context.getElement(), Recorded.class)
                .orElse(null);
    }

    private static ExtensionContext.Store store(ExtensionContext context) {
        return context.getStore(NAMESPACE);
    }

    private static void begin(ExtensionContext context, String name) {
        Recorded how = of(context);
        if (how == null) return;
        if (!how.together()) {
            store(context).put(context.getUniqueId(), new Recording(how, name));
            return;
        }
        // It is closed, and checked, with the whole run.
        Recording all = store(context.getRoot())
                .getOrComputeIfAbsent("together", key -> new Recording(how, "together"), Recording.class);
        all.accept(how);
    }

    private static void end(ExtensionContext context) throws IOException, InterruptedException {
        Recording recording = store(context).get(context.getUniqueId(), Recording.class);
        if (recording != null) recording.close();
    }

    @Override
    public void beforeAll(ExtensionContext context) {
        begin(context, context.getRequiredTestClass().getSimpleName());
    }

    @Override
    public void afterAll(ExtensionContext context) throws Exception {
        end(context);
    }

    @Override
    public void beforeEach(ExtensionContext context) {
        begin(
                context,
                context.getRequiredTestClass().getSimpleName() + "."
                        + context.getRequiredTestMethod().getName());
    }

    @Override
    public void afterEach(ExtensionContext context) throws Exception {
        end(context);
    }

    @Override
    public boolean supportsParameter(ParameterContext parameter, ExtensionContext context) {
        return parameter.getParameter().getType() == Recorder.class && Recorder.installed() != null;
    }

    @Override
    public Object resolveParameter(ParameterContext parameter, ExtensionContext context) {
        return Recorder.installed();
    }
}
