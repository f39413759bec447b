package example.keenlantern.benchmarks;

import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.EnumMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;
import java.util.stream.Stream;

/**
 * What recording costs a request of the office on Spring Boot, and its start. For requests, the offices run in one process (two of one
 * program differ by more than is measured here) and are asked in short turns, so that a busy machine is as busy for all. One that is
 * recorded runs in no process with one that is switched off: what the virtual machine compiles for one, the other runs too. A start
 * has its own process, in another order each time.
 *
 * <pre>java -cp 'target/classes:target/lib/*' example.keenlantern.benchmarks.Overhead [ROUNDS [TURNS [STARTS]]]</pre>
 */
public final class Overhead {
    private static final String OFFICE = "../office-spring/target/office.jar";
    private static final int TURN = 5; // requests of one office before the next one's

    private enum Mode {
        ALONE,
        AGAIN, // the same once more: how far apart two of a kind are
        OFF,
        ON;

        List<String> options() {
            return switch (this) {
                case ALONE, AGAIN -> List.of();
                case OFF -> List.of("--off", "true");
                case ON -> List.of("--off", "false");
            };
        }
    }

    private static final class Server implements AutoCloseable {
        final Process process;
        final BufferedReader prints;

        Server(String command, List<String> options) throws IOException {
            List<String> all = new ArrayList<>(List.of("java", "-Xmx512m", "-jar", OFFICE, command));
            all.addAll(options);
            process = new ProcessBuilder(all)
                    .redirectError(ProcessBuilder.Redirect.DISCARD)
                    .start();
            prints = new BufferedReader(new InputStreamReader(process.getInputStream()));
        }

        int port() throws IOException {
            String line = prints.readLine();
            if (line == null) throw new IOException("the office does not start; build it with 'make recorders'");
            return Integer.parseInt(line.trim());
        }

        @Override
        public void close() throws IOException {
            process.getOutputStream().close();
            process.onExit().join();
        }
    }

    private Overhead() {}

    /** Measures and prints. */
    public static void main(String[] args) throws Exception {
        int rounds = args.length > 0 ? Integer.parseInt(args[0]) : 3;
        int turns = args.length > 1 ? Integer.parseInt(args[1]) : 4000;
        int starts = args.length > 2 ? Integer.parseInt(args[2]) : 10;
        Path folder = Files.createTempDirectory("overhead");
        try {
            for (Mode mode : List.of(Mode.OFF, Mode.ON)) {
                Map<Mode, List<Double>> took = new EnumMap<>(Mode.class);
                for (int round = 0; round < rounds; round++) requests(folder, mode, round, turns, took);
                print("request", "µs", took, 0.5, 0.9, 0.99);
            }
            Map<Mode, List<Double>> started = new EnumMap<>(Mode.class);
            for (int n = 0; n < starts; n++) start(folder, n, started);
            if (starts > 0) print("start", "ms", started, 0.5, 0.9);
        } finally {
            empty(folder);
            Files.delete(folder);
        }
    }

    private static void requests(Path folder, Mode mode, int round, int turns, Map<Mode, List<Double>> took)
            throws Exception {
        HttpClient client = HttpClient.newHttpClient();
        List<Mode> modes = new ArrayList<>(List.of(Mode.ALONE, Mode.AGAIN, mode));
        Collections.rotate(modes, round); // each is the first to start once in three rounds
        String names = modes.stream().map(m -> m.name().toLowerCase()).collect(Collectors.joining(","));
        try (Server server = new Server("compare", List.of("--output", folder.toString(), "--modes", names))) {
            Map<Mode, HttpRequest> requests = new EnumMap<>(Mode.class);
            for (Mode each : modes)
                requests.put(
                        each,
                        HttpRequest.newBuilder(
                                        URI.create("http://127.0.0.1:" + server.port() + "/arrivals?ship=Grey+Seal"))
                                .POST(HttpRequest.BodyPublishers.noBody())
                                .build());
            List<Mode> order = new ArrayList<>(modes);
            for (int turn = 0; turn < turns; turn++) {
                Collections.shuffle(order); // what follows whom costs too
                for (Mode each : order) {
                    for (int n = 0; n < TURN; n++) {
                        long began = System.nanoTime();
                        client.send(requests.get(each), HttpResponse.BodyHandlers.discarding());
                        if (turn >= turns / 3) // it is warm by then
                        took.computeIfAbsent(each, m -> new ArrayList<>()).add((System.nanoTime() - began) / 1e3);
                    }
                }
            }
        }
        empty(folder);
    }

    private static void start(Path folder, int n, Map<Mode, List<Double>> started) throws Exception {
        for (int m = 0; m < Mode.values().length; m++) {
            Mode mode = Mode.values()[(m + n) % Mode.values().length];
            List<String> options = new ArrayList<>(mode.options());
            if (!options.isEmpty())
                options.addAll(
                        List.of("--output", folder.resolve("trace.ndjson.gz").toString()));
            long began = System.nanoTime();
            try (Server server = new Server("serve", options)) {
                server.port();
                started.computeIfAbsent(mode, x -> new ArrayList<>()).add((System.nanoTime() - began) / 1e6);
            }
            empty(folder);
        }
    }

    private static void empty(Path folder) throws IOException {
        try (Stream<Path> files = Files.list(folder)) {
            for (Path file : files.toList()) Files.delete(file);
        }
    }

    private static void print(String what, String unit, Map<Mode, List<Double>> took, double... shares) {
        for (Mode mode : took.keySet()) {
            StringBuilder line = new StringBuilder(
                    String.format("%-8s %-6s", what, mode.name().toLowerCase()));
            for (double share : shares) {
                double alone = at(took.get(Mode.ALONE), share);
                line.append(String.format(
                        "  p%.0f %6.0f %s (%.3f)",
                        share * 100, at(took.get(mode), share), unit, at(took.get(mode), share) / alone));
            }
            System.out.println(line);
        }
    }

    private static double at(List<Double> list, double share) {
        double[] sorted = list.stream().mapToDouble(Double::doubleValue).toArray();
        Arrays.sort(sorted);
        return sorted[(int) (sorted.length * share)];
    }
}
