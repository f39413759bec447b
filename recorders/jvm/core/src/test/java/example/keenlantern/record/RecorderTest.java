package example.keenlantern.record;

import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertFalse;
import static org.junit.jupiter.api.Assertions.assertNotEquals;
import static org.junit.jupiter.api.Assertions.assertNull;
import static org.junit.jupiter.api.Assertions.assertSame;
import static org.junit.jupiter.api.Assertions.assertThrows;
import static org.junit.jupiter.api.Assertions.assertTrue;

import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectMapper;
import com.sun.net.httpserver.HttpServer;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.OutputStream;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CopyOnWriteArrayList;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicLong;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.Timeout;
import org.junit.jupiter.api.io.TempDir;

class RecorderTest {
    private final ByteArrayOutputStream out = new ByteArrayOutputStream();

    private Config config() {
        return Recorder.forApplication("harbour").output(out).noExitHook();
    }

    /** What has been recorded, line by line. */
    private List<JsonNode> lines() throws IOException {
        List<JsonNode> list = new ArrayList<>();
        ObjectMapper mapper = new ObjectMapper();
        for (String line : out.toString(StandardCharsets.UTF_8).split("\n")) list.add(mapper.readTree(line));
        return list;
    }

    private static List<JsonNode> of(List<JsonNode> lines, String kind) {
        return lines.stream().filter(l -> l.get("ev").asText().equals(kind)).toList();
    }

    private static Event.Register scoped(String service) {
        return new Event.Register().service(service).lifetime(Event.Lifetime.SCOPED);
    }

    @Test
    void tellsOfARequest() throws IOException {
        Recorder recorder = config().version("1.2").start();
        Recorder.Root root = recorder.root(new Event.Container().name("office"), 0);
        long reg = recorder.register(scoped("TideSource"));
        long scope = recorder.open(new Event.Open().kind("request").name("GET /tides"));
        Object tides = new Object();
        long inst = recorder.make(new Event.Make().reg(reg).scope(scope).with(List.of(0L)), tides);
        recorder.disposing(inst, scope);
        recorder.disposed(tides, inst, scope, 5, new IllegalStateException("the secret"));
        recorder.close(scope);
        recorder.close(root.scope());
        recorder.close();

        List<String> kinds = lines().stream().map(l -> l.get("ev").asText()).toList();
        assertEquals(
                List.of(
                        "hello",
                        "container",
                        "register",
                        "open",
                        "make",
                        "dispose",
                        "dispose",
                        "close",
                        "close",
                        "bye"),
                kinds);
        assertFalse(out.toString(StandardCharsets.UTF_8).contains("secret"));
        assertEquals(
                "java.lang.IllegalStateException", lines().get(6).get("error").asText());
        assertEquals(10, recorder.totals().events());
        assertEquals(out.size(), recorder.totals().bytes());
    }

    @Test
    void switchedOnInMidLifeItTellsWhatIsAlive() throws IOException {
        Recorder recorder = config().off().start();
        long single =
                recorder.register(new Event.Register().service("PilotRoster").lifetime(Event.Lifetime.SINGLETON));
        long short1 = recorder.register(scoped("TideSource"));
        long lives = recorder.make(new Event.Make().reg(single).scope(0));
        long ended = recorder.make(new Event.Make().reg(single).scope(0));
        recorder.dispose(ended, 0, Event.Dispose.By.CONTAINER, Event.State.DONE, 0, null);
        long before = recorder.open(new Event.Open().kind("request"));
        assertEquals(Recorder.UNRECORDED, before);
        assertEquals(0, recorder.make(new Event.Make().reg(short1).scope(before)));
        assertEquals("", recorder.stream());

        recorder.set(Setting.ON);
        String first = recorder.stream();
        recorder.close(before);
        recorder.make(new Event.Make().reg(short1).scope(before));
        long after = recorder.open(new Event.Open().kind("request"));
        recorder.make(new Event.Make().reg(short1).scope(after).with(List.of(lives, ended)));
        recorder.close(after);
        recorder.set(Setting.OFF);
        recorder.set(Setting.ON);
        assertNotEquals(first, recorder.stream());
        recorder.close();

        List<JsonNode> lines = lines();
        assertEquals(2, of(lines, "hello").size());
        assertEquals(
                "recording was switched off", of(lines, "bye").get(0).get("why").asText());
        List<JsonNode> made = of(lines, "make");
        assertEquals(
                List.of(lives, made.get(1).get("inst").asLong(), lives),
                made.stream().map(m -> m.get("inst").asLong()).toList());
        assertTrue(made.get(0).get("t").asLong() < 0, "it was made before the stream began");
        assertEquals("[" + lives + ",0]", made.get(1).get("with").toString(), "what ended before is not known");
        assertEquals(1, of(lines, "open").size());
        assertEquals(1, of(lines, "close").size());
    }

    @Test
    void whatLastsIsToldWhereverItWasBuilt() throws IOException {
        Recorder recorder = config().off().start();
        Recorder.Root root = recorder.root(new Event.Container(), 0);
        Recorder.Root other = recorder.root(new Event.Container(), 0);
        long single = recorder.register(new Event.Register()
                .service("PilotRoster")
                .lifetime(Event.Lifetime.SINGLETON)
                .container(root.container()));
        Event.Make make = new Event.Make().reg(single).container(root.container());
        long first = recorder.make(make.copy().scope(Recorder.UNRECORDED));
        long gone = recorder.make(make.copy().scope(0).container(other.container()));
        recorder.forgetContainer(other);
        recorder.set(Setting.ON);
        long second = recorder.make(make.copy().scope(Recorder.UNRECORDED));
        long scope = recorder.open(new Event.Open());
        long third = recorder.make(make.copy().scope(scope));
        recorder.set(Setting.OFF);
        recorder.set(Setting.ON);
        recorder.close();
        List<JsonNode> made = of(lines(), "make");
        assertEquals(
                List.of(first, second, third, first, second, third),
                made.stream().map(m -> m.get("inst").asLong()).toList(),
                "not " + gone + ", whose container has been closed");
        assertEquals(
                List.of(0L, 0L, scope, 0L, 0L, 0L),
                made.stream().map(m -> m.get("scope").asLong()).toList(),
                "a later stream does not know of the scope");
    }

    @Test
    void waitsAsLongAsItIsAsked() throws Exception {
        AtomicLong asked = new AtomicLong();
        HttpServer service = HttpServer.create(new InetSocketAddress("127.0.0.1", 0), 0);
        service.createContext("/", exchange -> {
            exchange.getRequestBody().readAllBytes();
            asked.incrementAndGet();
            exchange.getResponseHeaders().set("Retry-After", "1");
            exchange.sendResponseHeaders(429, -1);
            exchange.close();
        });
        service.start();
        Recorder recorder = Recorder.forApplication("harbour")
                .service("http://127.0.0.1:" + service.getAddress().getPort())
                .alone()
                .noExitHook()
                .flushWait(Duration.ofMillis(10))
                .problem(problem -> {})
                .start();
        // Batches come all the while.
        for (int n = 0; n < 100; n++) {
            recorder.close(recorder.open(new Event.Open()));
            Thread.sleep(20);
        }
        assertTrue(asked.get() >= 2 && asked.get() <= 4, "asked " + asked + " times in two seconds");
        assertThrows(IOException.class, () -> recorder.close(Duration.ofMillis(100)));
        service.stop(0);
    }

    @Test
    void takesWholeScopesAndSaysHowMany() throws IOException {
        Recorder recorder = config().setting(Setting.ON.share(0.25)).start();
        long reg = recorder.register(scoped("TideSource"));
        int taken = 0;
        for (int n = 0; n < 2000; n++) {
            long scope = recorder.open(new Event.Open().kind("request"));
            long inner = recorder.open(new Event.Open().kind("step").in(scope));
            assertEquals(scope < 0, inner < 0, "what is inside is left out with it");
            assertEquals(scope < 0, recorder.make(new Event.Make().reg(reg).scope(inner)) == 0);
            recorder.close(inner);
            recorder.close(scope);
            if (scope > 0) taken++;
            if (n % 100 == 0) assertTrue(recorder.flush(Duration.ofSeconds(5)));
        }
        recorder.close();
        assertTrue(taken > 350 && taken < 650, "a quarter of 2000: " + taken);
        List<JsonNode> opened = of(lines(), "open");
        assertEquals(2 * taken, opened.size());
        for (JsonNode open : opened) assertEquals(4, open.get("weight").asInt());
    }

    @Test
    void aLimitEndsIt() throws Exception {
        Recorder recorder = config().setting(Setting.ON.bytes(20_000))
                .flushWait(Duration.ofMillis(1))
                .start();
        for (int n = 0; recorder.on() && n < 100_000; n++) {
            recorder.close(recorder.open(new Event.Open().kind("request")));
            if (n % 50 == 0) Thread.sleep(1);
        }
        assertFalse(recorder.on());
        recorder.close();
        List<JsonNode> lines = lines();
        assertEquals(
                "recording reached its limit",
                lines.get(lines.size() - 1).get("why").asText());
        assertTrue(out.size() < 60_000, "it ended soon after: " + out.size());
    }

    @Test
    @Timeout(60)
    void keepsItsBoundWhileNothingIsTaken() throws Exception {
        CountDownLatch stuck = new CountDownLatch(1);
        OutputStream slow = new OutputStream() {
            @Override
            public void write(int b) {
                throw new AssertionError();
            }

            @Override
            public void write(byte[] bytes, int from, int length) throws IOException {
                try {
                    stuck.await();
                } catch (InterruptedException e) {
                    throw new IOException(e);
                }
                out.write(bytes, from, length);
            }
        };
        Recorder recorder = Recorder.forApplication("harbour")
                .output(slow)
                .noExitHook()
                .memory(1 << 20)
                .start();
        long reg = recorder.register(scoped("TideSource"));
        System.gc();
        long before = used();
        // A call that waited for the output would never return.
        for (int n = 0; n < 300_000; n++) {
            long scope = recorder.open(new Event.Open().kind("request").name("GET /tides"));
            recorder.make(new Event.Make().reg(reg).scope(scope).impl("GaugeTides"), new Object());
            recorder.close(scope);
        }
        assertTrue(used() - before < 3 << 20, "it took up " + (used() - before));
        stuck.countDown();
        recorder.close();

        // Whole scopes were dropped, and every event is either there or counted.
        List<JsonNode> lines = lines();
        long gaps =
                of(lines, "gap").stream().mapToLong(g -> g.get("lost").asLong()).sum();
        assertTrue(gaps > 100_000, "dropped: " + gaps);
        assertEquals(recorder.totals().lost(), gaps);
        assertEquals(recorder.totals().events(), lines.size());
        Set<Long> open = new HashSet<>();
        of(lines, "open").forEach(l -> open.add(l.get("scope").asLong()));
        long torn = of(lines, "make").stream()
                .filter(l -> !open.contains(l.get("scope").asLong()))
                .count();
        assertEquals(0, torn, "nothing of a scope that was left out");
    }

    private static long used() {
        System.gc();
        return Runtime.getRuntime().totalMemory() - Runtime.getRuntime().freeMemory();
    }

    @Test
    void manyThreadsAndSwitchesLoseNothingUncounted() throws Exception {
        Recorder recorder = config().start();
        long reg = recorder.register(scoped("TideSource"));
        ExecutorService pool = Executors.newFixedThreadPool(8);
        AtomicLong done = new AtomicLong();
        for (int thread = 0; thread < 8; thread++) {
            pool.submit(() -> {
                for (int n = 0; n < 5_000; n++) {
                    long scope = recorder.open(new Event.Open().kind("request"));
                    long inst = recorder.make(new Event.Make().reg(reg).scope(scope), new Object());
                    recorder.give(new Event.Give().inst(inst).scope(scope));
                    recorder.close(scope);
                    done.incrementAndGet();
                }
            });
        }
        while (done.get() < 39_000) {
            recorder.set(Setting.OFF);
            recorder.set(Setting.ON);
            Thread.sleep(5);
        }
        pool.shutdown();
        assertTrue(pool.awaitTermination(30, TimeUnit.SECONDS));
        recorder.close();

        // In each stream, nothing is mentioned that it does not know.
        Set<Long> scopes = new HashSet<>();
        Set<Long> insts = new HashSet<>();
        int streams = 0;
        for (JsonNode l : lines()) {
            switch (l.get("ev").asText()) {
                case "hello" -> {
                    streams++;
                    scopes.clear();
                    insts.clear();
                }
                case "open" -> scopes.add(l.get("scope").asLong());
                case "make" -> {
                    insts.add(l.get("inst").asLong());
                    assertTrue(scopes.contains(l.get("scope").asLong()), l::toString);
                }
                case "give" -> assertTrue(insts.contains(l.get("inst").asLong()), l::toString);
                case "close" -> assertTrue(scopes.remove(l.get("scope").asLong()), l::toString);
                default -> {}
            }
        }
        assertTrue(streams > 2, "streams: " + streams);
    }

    @Test
    void tellsWhatIsCollected() throws Exception {
        Recorder recorder = config().start();
        long reg = recorder.register(new Event.Register().service("TideModel").lifetime(Event.Lifetime.TRANSIENT));
        Object kept = new Object();
        long one = recorder.make(new Event.Make().reg(reg).scope(0), kept);
        long two = recorder.make(new Event.Make().reg(reg).scope(0), new Object());
        long scope = recorder.open(new Event.Open());
        recorder.make(new Event.Make().reg(reg).scope(scope), new Object());
        recorder.close(scope);
        assertEquals(one, recorder.idOf(kept));
        for (int n = 0; n < 50 && of(flushed(recorder), "forget").isEmpty(); n++) {
            System.gc();
            Thread.sleep(20);
        }
        recorder.close();
        List<JsonNode> forgotten = of(lines(), "forget");
        assertEquals(1, forgotten.size(), "collection of what ended with its scope adds nothing");
        assertEquals(two, forgotten.get(0).get("inst").asLong());
        assertEquals(one, recorder.idOf(kept));
    }

    private List<JsonNode> flushed(Recorder recorder) throws IOException {
        assertTrue(recorder.flush(Duration.ofSeconds(5)));
        return lines();
    }

    @Test
    void aNameMayComeLater() throws IOException {
        Recorder recorder = config().start();
        Naming naming = new Naming();
        long scope = recorder.open(new Event.Open().kind("request"), naming);
        recorder.make(new Event.Make().scope(scope).impl("GaugeTides"));
        long inner = recorder.open(new Event.Open().in(scope).kind("step"));
        recorder.close(inner);
        recorder.make(new Event.Make().scope(0).impl("HarbourClock"));
        naming.is("GET /tides/{gauge}");
        naming.is("another");
        recorder.close(scope);
        recorder.close();
        List<JsonNode> lines = lines();
        assertEquals("GET /tides/{gauge}", of(lines, "open").get(0).get("name").asText());
        int opened = lines.indexOf(of(lines, "open").get(0));
        int made = lines.indexOf(of(lines, "make").stream()
                .filter(m -> m.get("impl").asText().equals("GaugeTides"))
                .findFirst()
                .orElseThrow());
        assertTrue(opened < made, "what happens in it is written behind it");
        assertEquals(2, of(lines, "close").size());
    }

    @Test
    void workGoesAlong() throws Exception {
        Recorder recorder = config().start();
        ExecutorService plain = Executors.newSingleThreadExecutor();
        ExecutorService pool = recorder.carry(plain);
        recorder.call("job", "night reconcile", () -> {
            long here = recorder.scope();
            assertTrue(here > 0);
            assertEquals(here, pool.submit(recorder::scope).get());
            assertEquals(0, plain.submit(recorder::scope).get(), "the thread goes back to nothing");
            assertEquals(
                    here,
                    CompletableFuture.supplyAsync(recorder.work().carrySupply(recorder::scope))
                            .get());
            assertEquals(here, pool.invokeAll(List.of(recorder::scope)).get(0).get());
            String parent = recorder.work().traceparent();
            assertEquals(recorder.work().traceId(), recorder.traceOf(parent));
            return null;
        });
        assertEquals(0, recorder.scope());
        assertNull(recorder.work().traceparent());
        assertNotEquals(
                "00000000000000000000000000000000", recorder.traceOf("00-00000000000000000000000000000000-1-01"));
        assertThrows(
                IllegalStateException.class,
                () -> recorder.run("job", "fails", () -> {
                    throw new IllegalStateException();
                }));
        plain.shutdown();
        recorder.close();
        assertEquals(2, of(lines(), "close").size());
    }

    @Test
    void virtualThreadsHaveTheirWork() throws Exception {
        Recorder recorder = config().start();
        ExecutorService threads;
        try {
            threads = (ExecutorService)
                    Executors.class.getMethod("newVirtualThreadPerTaskExecutor").invoke(null);
        } catch (NoSuchMethodException e) {
            recorder.close();
            org.junit.jupiter.api.Assumptions.abort("this JVM has no virtual threads; test with Java 21 or later");
            return;
        }
        List<Long> seen = new CopyOnWriteArrayList<>();
        recorder.call("job", "night reconcile", () -> {
            ExecutorService carrying = recorder.carry(threads);
            for (int n = 0; n < 1000; n++)
                carrying.submit(() -> {
                    Thread.sleep(1);
                    return seen.add(recorder.scope());
                });
            threads.shutdown();
            assertTrue(threads.awaitTermination(30, TimeUnit.SECONDS));
            assertEquals(Set.of(recorder.scope()), Set.copyOf(seen));
            return null;
        });
        recorder.close();
    }

    interface TideSource extends AutoCloseable {
        int height();

        @Override
        void close();
    }

    static final class GaugeTides implements TideSource {
        @Override
        public int height() {
            return 7;
        }

        @Override
        public void close() {}
    }

    @Test
    void aStandInIsTheSameToItsUsers() throws IOException {
        Recorder recorder = config().uses(Set.of("*")).start();
        GaugeTides tides = new GaugeTides();
        long inst = recorder.make(new Event.Make().scope(0).impl("GaugeTides"), tides);
        TideSource seen = (TideSource) StandIn.of(recorder, tides, inst, Set.of("close"));
        assertEquals(7, seen.height());
        assertEquals(seen, StandIn.of(recorder, tides, inst, Set.of()));
        assertTrue(seen.equals(tides));
        assertEquals(tides.hashCode(), seen.hashCode());
        assertEquals(inst, recorder.idOf(seen));
        assertSame(tides, StandIn.standsFor(seen));
        Object bare = new Object();
        assertSame(bare, StandIn.of(recorder, bare, 5, Set.of()), "nothing can stand in for what has no interfaces");
        seen.close();
        recorder.close();
        assertEquals(1, of(lines(), "use").size());
        assertEquals(
                List.of("begun", "done"),
                of(lines(), "dispose").stream()
                        .map(l -> l.get("state").asText())
                        .toList());
    }

    @Test
    void wiredByHand() throws IOException {
        Recorder recorder = config().start();
        Wiring wiring = new Wiring(recorder);
        Wiring.Service<Object> clock = wiring.provide("HarbourClock", Wiring.Kept.SINGLETON, get -> new Object());
        Wiring.Service<TideSource> tides = wiring.provide("TideSource", Wiring.Kept.SCOPED, get -> {
            get.of(clock);
            return new GaugeTides();
        });
        wiring.decorate(tides, (inner, get) -> new TideSource() {
            @Override
            public int height() {
                return inner.height() + 1;
            }

            @Override
            public void close() {}
        });
        List<Wiring.Service<Object>> loop = new ArrayList<>();
        loop.add(wiring.provide("TugCrew", Wiring.Kept.SCOPED, get -> get.of(loop.get(1))));
        loop.add(wiring.provide("TugDispatcher", Wiring.Kept.SCOPED, get -> get.of(loop.get(0))));
        try (Wiring.Scope scope = wiring.open("request", "GET /tides")) {
            assertEquals(8, scope.get(tides, "tides").height());
            assertSame(scope.get(tides), scope.get(tides));
            assertThrows(Wiring.CycleException.class, () -> scope.get(loop.get(0)));
        }
        wiring.close();
        recorder.close();
        List<JsonNode> lines = lines();
        assertEquals(3, of(lines, "make").size());
        assertEquals(1, of(lines, "fail").size());
        assertEquals(
                "[\"TugCrew\",\"TugDispatcher\",\"TugCrew\"]",
                of(lines, "fail").get(0).get("path").toString());
        assertEquals(4, of(lines, "dispose").size());
        assertEquals(2, of(lines, "close").size());
    }

    @Test
    void recordsToAFile(@TempDir Path folder) throws IOException {
        Path file = folder.resolve("trace.ndjson.gz");
        Recorder recorder =
                Recorder.forApplication("harbour").output(file).noExitHook().start();
        recorder.close();
        try (var in = new java.util.zip.GZIPInputStream(Files.newInputStream(file))) {
            assertEquals(
                    2,
                    new String(in.readAllBytes(), StandardCharsets.UTF_8)
                            .lines()
                            .count());
        }
        IOException there = assertThrows(
                IOException.class,
                () -> Recorder.forApplication("harbour").output(file).start());
        assertTrue(there.getMessage().contains("choose another name"), there.getMessage());
    }

    @Test
    void wrongSettingsSayWhatToDo() {
        assertThrows(IllegalArgumentException.class, () -> Recorder.forApplication(" "));
        assertThrows(IllegalArgumentException.class, () -> Setting.ON.share(2));
        assertThrows(
                IllegalArgumentException.class,
                () -> Recorder.forApplication("harbour").start());
        IllegalArgumentException e = assertThrows(
                IllegalArgumentException.class,
                () -> Recorder.forApplication("harbour").service("lantern:7460"));
        assertTrue(e.getMessage().contains("http://lantern:7460"), e.getMessage());
    }

    enum Port {
        ONE
    }

    static final class Station {
        @Override
        public String toString() {
            throw new IllegalStateException("a key was asked to print itself");
        }
    }

    @Test
    void keysOfAnyTypeAreToldApart() {
        Keys keys = new Keys();
        Station north = new Station();
        assertEquals("1", keys.text("1"));
        assertEquals("(Integer) 1", keys.text(1));
        assertEquals("(Boolean) true", keys.text(true));
        assertEquals("(" + Port.class.getName() + ") ONE", keys.text(Port.ONE));
        assertEquals("(type) " + Station.class.getName(), keys.text(Station.class));
        assertEquals("(" + Station.class.getName() + ") #1", keys.text(north));
        assertEquals("(" + Station.class.getName() + ") #2", keys.text(new Station()));
        assertEquals("(" + Station.class.getName() + ") #1", keys.text(north));
        assertEquals("(text) (Integer) 1", keys.text("(Integer) 1"));
        assertEquals("(null)", keys.text(null));
    }

    @Test
    void whatIsNotRegisteredIsWrittenUpToABoundOrNotAtAll() {
        for (boolean hide : new boolean[] {false, true}) {
            Unregistered unregistered = new Unregistered(hide);
            int named = 0;
            for (int n = 0; n < 1000; n++) {
                Event.Fail fail = new Event.Fail().service("WeatherReport").key("typed-" + n);
                unregistered.name(fail);
                assertEquals("WeatherReport", fail.service);
                if (!fail.key.equals("(not registered)")) named++;
            }
            assertEquals(hide ? 0 : 256, named);
        }
    }
}
