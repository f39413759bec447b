package example.keenlantern.record;

import java.io.IOException;
import java.time.Duration;

/** Records three hundred scopes, delivers them to the service that is named, and prints what became of it as JSON. */
final class Sender {
    private Sender() {}

    public static void main(String[] args) throws Exception {
        Recorder recorder = Recorder.forApplication("harbour")
                .service(args[0])
                .alone()
                .flushWait(Duration.ofMillis(1))
                .batchSize(2048)
                .timeout(Duration.ofSeconds(1))
                .problem(problem -> {})
                .start();
        long reg = recorder.register(new Event.Register().service("TideSource").lifetime(Event.Lifetime.SCOPED));
        long waited = 0;
        for (int n = 0; n < 300; n++) {
            long began = System.nanoTime();
            long scope = recorder.open(new Event.Open().kind("request").name("GET /tides/" + n % 7));
            recorder.make(new Event.Make().reg(reg).scope(scope));
            recorder.close(scope);
            waited = Math.max(waited, System.nanoTime() - began);
            if (n % 20 == 0) Thread.sleep(2); // for several batches
        }
        String error = "";
        try {
            recorder.close(Duration.ofSeconds(40));
        } catch (IOException e) {
            error = e.getMessage();
        }
        Totals totals = recorder.totals();
        System.out.printf(
                "{\"Events\":%d,\"Lost\":%d,\"Waited\":%.3f,\"Error\":\"%s\"}%n",
                totals.events(), totals.lost(), waited / 1e6, error);
    }
}
