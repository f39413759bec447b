package example.keenlantern.office;

import example.keenlantern.record.Recorder;
import example.keenlantern.record.Totals;
import example.keenlantern.record.spring.SpringRecording;
import java.io.IOException;
import java.io.PrintStream;
import java.net.URI;
import java.net.URLEncoder;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.atomic.AtomicReference;
import org.springframework.boot.WebApplicationType;
import org.springframework.boot.autoconfigure.SpringBootApplication;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.annotation.ComponentScan;
import org.springframework.context.annotation.FilterType;
import org.springframework.messaging.support.ExecutorSubscribableChannel;
import org.springframework.messaging.support.GenericMessage;

/**
 * Runs the office under real requests, with a mistake, while it is recorded:
 *
 * <pre>
 * java -jar office.jar run --service http://127.0.0.1:7460 [--mistake NAME] [--requests N] [--rate PER_SECOND]
 * java -jar office.jar serve [--service URL | --output FILE] [--off true]
 * java -jar office.jar compare --output FOLDER --modes MODE,MODE…
 * java -jar office.jar list
 * </pre>
 */
@SpringBootApplication
@ComponentScan(excludeFilters = @ComponentScan.Filter(type = FilterType.REGEX, pattern = ".*\\.Night.*"))
public class Office {
    private static final Map<String, String> MISTAKES = new LinkedHashMap<>();

    static {
        MISTAKES.put(
                "roster-keeps-tides",
                "the pilot roster, a singleton, keeps the tide readings of the first request that needed them");
        MISTAKES.put("log-never-closed", "the log page was registered so that the container does not close it");
        MISTAKES.put(
                "model-rebuilt",
                "the tide model was registered with what each request has of its own, and takes a while to build");
        MISTAKES.put(
                "two-clocks",
                "the night job's clock was registered a second time instead of asking for the one there is");
        MISTAKES.put(
                "station-misspelt", "the radio desk asks for the weather of a station whose name is spelt otherwise");
        MISTAKES.put(
                "gauge-read-direct",
                "the berth planner asks for the gauge itself and bypasses the decorators that audit and cache it");
        MISTAKES.put("crew-waits-for-tug", "the tug's crew asks for the dispatcher, who asks for the crew");
        MISTAKES.put("stand-in-weather", "the weather that tests use was left in place of the buoy's");
    }

    private static final String[] SHIPS = {"Marsh Warbler", "Grey Seal", "Sandpiper", "Old Samphire", "Sea Lavender"};

    private final HttpClient client = HttpClient.newHttpClient();

    /** Runs it. */
    public static void main(String[] args) throws Exception {
        String command = args.length == 0 ? "" : args[0];
        Map<String, String> options = new HashMap<>();
        for (int n = 1; n + 1 < args.length; n += 2) options.put(args[n], args[n + 1]);
        String mistake = options.getOrDefault("--mistake", "none");
        PrintStream out = System.out;
        System.setOut(System.err); // what the application logs is not what this prints
        if (command.equals("list")) {
            MISTAKES.forEach((name, says) -> out.printf("%-20s %s%n", name, says));
            return;
        }
        if (command.equals("compare") && options.containsKey("--output")) {
            compare(out, Path.of(options.get("--output")), options.getOrDefault("--modes", "alone,on"));
            return;
        }
        if (!command.equals("run") && !command.equals("serve")
                || !mistake.equals("none") && !MISTAKES.containsKey(mistake)) {
            System.err.println(
                    "usage: office.jar run --service URL [--mistake NAME] [--requests N] | serve | compare | list");
            System.exit(2);
        }
        Map<String, Object> settings = new HashMap<>();
        if (options.containsKey("--output")) settings.put("keenlantern.output", options.get("--output"));
        else if (options.containsKey("--service")) settings.put("keenlantern.service", options.get("--service"));
        if (options.containsKey("--off")) settings.put("keenlantern.off", options.get("--off"));
        if (options.containsKey("--token")) settings.put("keenlantern.token", options.get("--token"));
        settings.put("keenlantern.version", options.getOrDefault("--version", "1.0.0"));
        if (command.equals("serve")) {
            serve(out, settings);
            return;
        }
        new Office()
                .run(
                        out,
                        mistake,
                        settings,
                        Integer.parseInt(options.getOrDefault("--requests", "320")),
                        Integer.parseInt(options.getOrDefault("--rate", "0")));
    }

    // Answers requests until its input ends.
    private static void serve(PrintStream out, Map<String, Object> settings) throws IOException {
        try (ConfigurableApplicationContext context =
                new SpringApplicationBuilder(Office.class).properties(settings).run()) {
            out.println(context.getEnvironment().getProperty("local.server.port"));
            System.in.read();
        }
    }

    // Runs several offices in this process, for what recording costs: two processes of one program differ by more.
    // An office is recorded ("on"), has recording switched off ("off"), or knows nothing of it (any other mode).
    private static void compare(PrintStream out, Path folder, String modes) throws IOException {
        List<Map<String, Object>> all = new ArrayList<>();
        for (String mode : modes.split(",")) {
            Map<String, Object> settings = new HashMap<>();
            if (mode.equals("on") || mode.equals("off")) {
                settings.put(
                        "keenlantern.output",
                        folder.resolve(mode + ".ndjson.gz").toString());
                settings.put("keenlantern.off", "" + mode.equals("off"));
            }
            all.add(settings);
        }
        List<ConfigurableApplicationContext> contexts = new ArrayList<>();
        try {
            for (Map<String, Object> settings : all)
                contexts.add(new SpringApplicationBuilder(Office.class)
                        .properties(settings)
                        .run());
            for (ConfigurableApplicationContext context : contexts)
                out.println(context.getEnvironment().getProperty("local.server.port"));
            System.in.read();
        } finally {
            for (ConfigurableApplicationContext context : contexts) context.close();
        }
    }

    private void run(PrintStream out, String mistake, Map<String, Object> settings, int requests, int rate)
            throws Exception {
        AtomicReference<Recorder> recorder = new AtomicReference<>();
        AtomicReference<String> stream = new AtomicReference<>("");
        SpringApplicationBuilder office = new SpringApplicationBuilder(Office.class)
                .profiles(mistake)
                .properties(settings)
                .initializers(context -> context.addBeanFactoryPostProcessor(beans -> {
                    SpringRecording recording =
                            beans.getBeanProvider(SpringRecording.class).getIfAvailable();
                    if (recording == null) return;
                    recorder.set(recording.recorder());
                    stream.set(recording.recorder().stream());
                }));
        try (ConfigurableApplicationContext context = office.run()) {
            try (ConfigurableApplicationContext night = new SpringApplicationBuilder(NightConfiguration.class)
                    .profiles(mistake)
                    .parent(context)
                    .web(WebApplicationType.NONE)
                    .run()) {
                drive(context, requests, rate);
                while (night.getBean(NightConfiguration.ReconcileDesk.class).compared() < 3) Thread.sleep(10);
            }
        } catch (RuntimeException e) {
            if (!mistake.equals("crew-waits-for-tug")) throw e;
            System.err.println("the office does not start: " + e.getClass().getSimpleName()); // the mistake
        }
        if (recorder.get() == null) return;
        Totals totals = recorder.get().totals();
        out.printf(
                "{\"stream\":\"%s\",\"events\":%d,\"lost\":%d,\"bytes\":%d}%n",
                stream, totals.events(), totals.lost(), totals.bytes());
    }

    private void drive(ConfigurableApplicationContext context, int requests, int rate) throws Exception {
        String url = "http://127.0.0.1:" + context.getEnvironment().getProperty("local.server.port");
        ExecutorSubscribableChannel radio = context.getBean(ExecutorSubscribableChannel.class);
        List<CompletableFuture<HttpResponse<String>>> asked = new ArrayList<>();
        long began = System.currentTimeMillis();
        for (int n = 0; n < requests; n++) {
            String ship = SHIPS[n % SHIPS.length];
            String[] gauges = {"outer-bar", "lock-gate", "reed-island"};
            asked.add(
                    switch (n % 4) {
                        case 0 -> ask("GET", url + "/pilots");
                        case 1 ->
                            ask("POST", url + "/arrivals?ship=" + URLEncoder.encode(ship, StandardCharsets.UTF_8));
                        case 2 -> ask("GET", url + "/tides/" + gauges[n % 3]);
                        default -> ask("POST", url + "/tugs");
                    });
            if (n % 10 == 0) radio.send(new GenericMessage<>(ship));
            if (rate > 0) Thread.sleep(Math.max(0, began + n * 1000L / rate - System.currentTimeMillis()));
            if (asked.size() >= (rate > 0 ? 64 : 8)) settle(asked);
        }
        settle(asked);
    }

    private CompletableFuture<HttpResponse<String>> ask(String method, String url) {
        HttpRequest request = HttpRequest.newBuilder(URI.create(url))
                .method(method, HttpRequest.BodyPublishers.noBody())
                .build();
        return client.sendAsync(request, HttpResponse.BodyHandlers.ofString());
    }

    private static void settle(List<CompletableFuture<HttpResponse<String>>> asked) throws IOException {
        for (CompletableFuture<HttpResponse<String>> one : asked) {
            HttpResponse<String> answer = one.join();
            if (answer.statusCode() != 200)
                throw new IOException(answer.request().uri() + ": " + answer.statusCode() + " " + answer.body());
        }
        asked.clear();
    }
}
