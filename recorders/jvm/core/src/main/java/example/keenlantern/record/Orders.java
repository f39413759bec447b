package example.keenlantern.record;

import java.io.IOException;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.time.Duration;
import java.util.Map;
import java.util.concurrent.TimeUnit;

/** Reports the recorder's state to the service in a loop, and applies its orders, on a separate thread. */
final class Orders implements Runnable {
    private static final long FIRST_WAIT = 1000; // ms
    private static final long LAST_WAIT = 30_000; // ms

    private final Recorder recorder;
    private final Config config;
    private final Http http;
    private final Thread thread = new Thread(this, "keenlantern-orders");
    private volatile boolean ended;

    /** What the service wants. */
    private record Order(long version, Setting setting) {}

    Orders(Recorder recorder, Config config) {
        this.recorder = recorder;
        this.config = config;
        http = new Http(config);
        thread.setDaemon(true);
    }

    void start() {
        thread.start();
    }

    void end() {
        ended = true;
        thread.interrupt();
    }

    @Override
    public void run() {
        long seen = 0;
        long wait = FIRST_WAIT;
        while (!ended) {
            long asked = System.nanoTime();
            boolean news = false;
            boolean answered = false;
            try {
                Order order = ask(seen);
                answered = true;
                news = order.version > 0 && order.version != seen;
                // A service that lost its orders, or another one in its place, counts from the start again.
                seen = order.version;
                if (news) recorder.set(order.setting);
            } catch (IOException | RuntimeException e) {
                // It is asked again.
            }
            if (ended) return;
            if (news || answered && System.nanoTime() - asked >= TimeUnit.SECONDS.toNanos(20)) {
                wait = FIRST_WAIT;
                continue;
            }
            try {
                TimeUnit.MILLISECONDS.sleep(Delivery.jitter(wait));
            } catch (InterruptedException e) {
                return;
            }
            wait = Math.min(2 * wait, LAST_WAIT);
        }
    }

    private Order ask(long knows) throws IOException {
        Totals totals = recorder.totals();
        Setting setting = recorder.setting();
        Line body = new Line(512);
        body.begin("{\"knows\":".getBytes(StandardCharsets.US_ASCII), knows);
        body.text(Line.member("version"), config.version == null ? "" : config.version);
        body.text(Line.member("environment"), config.environment == null ? "" : config.environment);
        body.text(Line.member("stream"), recorder.stream());
        body.flag(Line.member("on"), setting.on());
        body.real(Line.member("share"), setting.share());
        body.number(Line.member("events"), totals.events());
        body.number(Line.member("lost"), totals.lost());
        body.end();
        String app = URLEncoder.encode(config.app, StandardCharsets.UTF_8).replace("+", "%20");
        Http.Answer answer = http.put(
                "/api/v1/applications/" + app + "/recorders/" + recorder.id(),
                body.take(),
                "application/json",
                Duration.ofSeconds(60),
                64 << 10);
        answer.ofService();
        Map<String, Object> said = Json.object(answer.body());
        Setting to = new Setting(
                Boolean.TRUE.equals(said.get("on")),
                number(said, "share"),
                Duration.ofNanos((long) number(said, "for_ns")),
                (long) number(said, "bytes"));
        return new Order((long) number(said, "version"), to);
    }

    private static double number(Map<String, Object> said, String name) {
        return said.get(name) instanceof Double value ? value : 0;
    }
}
