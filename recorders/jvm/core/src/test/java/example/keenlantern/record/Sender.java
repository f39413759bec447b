package example.keenlantern.record;

import java.io.IOException;
import java.time.Duration;

/**
 * Records three hundred scopes, delivers them to the service that is named within the seconds that are named for a batch, says when
 * all calls are made, and prints what became of it as JSON.
 */
final class Sender {
    private Sender() {}

    public static void main(String[] args) throws Exception {
        Recorder recorder = Recorder.forApplication("harbour")
                .service(args[0])
                .alone()
                .flushWait(Duration.ofMillis(1))
                .batchSize(2048)
                .timeout(Duration.ofSeconds(Long.parseLong(args[1])))
                .problem(problem -> {})
                .start();
        long reg = recorder.register(new Event.Register().service("TideSource").lifetime(Event.Lifetime.SCOPED));
        for (int n = 0; n < 300; n++) {
            long scope = recorder.open(new Event.Open().kind("request").name("GET /tides/" + n % 7));
            recorder.make(new Event.Make().reg(reg).scope(scope));
            recorder.close(scope);
            if (n % 20 == 0) Thread.sleep(2); // for several batches
        }
        System.out.println("made");
        String error = "";
        try {
            recorder.close(Duration.ofSeconds(40));
        } catch (IOException e) {
            error = e.getMessage();
        }
        Totals totals = recorder.totals();
        System.out.printf("{\"Events\":%d,\"Lost\":%d,\"Error\":\"%s\"}%n", totals.events(), totals.lost(), error);
    }
}
