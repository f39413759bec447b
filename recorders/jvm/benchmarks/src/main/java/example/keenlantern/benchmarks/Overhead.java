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
import java.util.EnumMap;
import java.util.List;
import java.util.Map;

/**
 * What recording costs a request of the office on Spring Boot, and its start: a process each for the office alone, for recording off
 * and for all of it recorded, asked in short turns so that a busy machine is as busy for all.
 *
 * <pre>java -cp 'target/classes:target/lib/*' example.keenlantern.benchmarks.Overhead [ROUNDS [TURNS]]</pre>
 */
public final class Overhead {
    private static final String OFFICE = "../office-spring/target/office.jar";
    private static final int TURN = 25; // requests of one process before the next one's

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

    private static final class Server {
        final Process process;
        final int port;
        final double started; // ms

        Server(Mode mode) throws IOException {
            List<String> command = new ArrayList<>(List.of("java", "-Xmx256m", "-jar", OFFICE, "serve"));
            command.addAll(mode.options());
            if (mode == Mode.OFF || mode == Mode.ON) {
                Path folder = Files.createTempDirectory("overhead");
                Path file = folder.resolve("trace.ndjson.gz");
                folder.toFile().deleteOnExit();
                file.toFile().deleteOnExit();
                command.addAll(List.of("--output", file.toString()));
            }
            long began = System.nanoTime();
            process = new ProcessBuilder(command)
                    .redirectError(ProcessBuilder.Redirect.DISCARD)
                    .start();
            String line = new BufferedReader(new InputStreamReader(process.getInputStream())).readLine();
            if (line == null) throw new IOException("the office does not start; build it with 'make recorders'");
            port = Integer.parseInt(line.trim());
            started = (System.nanoTime() - began) / 1e6;
        }

        void stop() throws IOException, InterruptedException {
            process.getOutputStream().close();
            process.waitFor();
        }
    }

    private Overhead() {}

    /** Measures and prints. */
    public static void main(String[] args) throws Exception {
        int rounds = args.length > 0 ? Integer.parseInt(args[0]) : 5;
        int turns = args.length > 1 ? Integer.parseInt(args[1]) : 240;
        HttpClient client = HttpClient.newHttpClient();
        Map<Mode, List<Double>> took = new EnumMap<>(Mode.class);
        Map<Mode, List<Double>> starts = new EnumMap<>(Mode.class);
        for (Mode mode : Mode.values()) {
            took.put(mode, new ArrayList<>());
            starts.put(mode, new ArrayList<>());
        }
        for (int round = 0; round < rounds; round++) {
            Map<Mode, Server> servers = new EnumMap<>(Mode.class);
            for (int n = 0; n < Mode.values().length; n++) {
                // Two processes of the same program differ by some per cent: they are started in another order each
                // time.
                Mode mode = Mode.values()[(n + round) % Mode.values().length];
                servers.put(mode, new Server(mode));
                starts.get(mode).add(servers.get(mode).started);
            }
            for (int turn = 0; turn < turns; turn++) {
                for (Mode mode : Mode.values()) {
                    HttpRequest request = HttpRequest.newBuilder(URI.create(
                                    "http://127.0.0.1:" + servers.get(mode).port + "/arrivals?ship=Grey+Seal"))
                            .POST(HttpRequest.BodyPublishers.noBody())
                            .build();
                    for (int n = 0; n < TURN; n++) {
                        long began = System.nanoTime();
                        client.send(request, HttpResponse.BodyHandlers.discarding());
                        if (turn >= turns / 2) took.get(mode).add((System.nanoTime() - began) / 1e3);
                    }
                }
            }
            for (Server server : servers.values()) server.stop();
        }
        for (Mode mode : Mode.values()) {
            System.out.printf(
                    "%-6s p50 %5.0f µs (%.3f)   p99 %6.0f µs (%.3f)   start %5.0f ms (%.3f)%n",
                    mode.name().toLowerCase(),
                    at(took.get(mode), 0.5),
                    at(took.get(mode), 0.5) / at(took.get(Mode.ALONE), 0.5),
                    at(took.get(mode), 0.99),
                    at(took.get(mode), 0.99) / at(took.get(Mode.ALONE), 0.99),
                    at(starts.get(mode), 0.5),
                    at(starts.get(mode), 0.5) / at(starts.get(Mode.ALONE), 0.5));
        }
    }

    private static double at(List<Double> list, double share) {
        double[] sorted = list.stream().mapToDouble(Double::doubleValue).toArray();
        Arrays.sort(sorted);
        return sorted[(int) (sorted.length * share)];
    }
}
