package example.keenlantern.harbour.office;

import static example.keenlantern.harbour.office.Bundles.parameter;
import static example.keenlantern.harbour.office.Bundles.provides;
import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertTrue;

import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectMapper;
import example.keenlantern.harbour.api.Clock;
import example.keenlantern.harbour.api.Dispatcher;
import example.keenlantern.harbour.api.LogPage;
import example.keenlantern.harbour.api.Ticket;
import example.keenlantern.harbour.api.WeatherReport;
import example.keenlantern.harbour.clock.HarbourClock;
import example.keenlantern.harbour.desk.PaperPage;
import example.keenlantern.harbour.desk.PaperTicket;
import example.keenlantern.harbour.night.NightDesk;
import example.keenlantern.harbour.weather.BuoyWeather;
import example.keenlantern.harbour.weather.FakeWeather;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.osgi.OsgiRecording;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Set;
import java.util.function.Predicate;
import java.util.stream.Collectors;
import java.util.stream.Stream;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleContext;
import org.osgi.framework.launch.Framework;

/** What is recorded of components of every kind: a real framework, a real runtime, real bundles. */
class ComponentsTest {
    private static final Duration SOON = Duration.ofSeconds(10);

    @TempDir
    Path folder;

    private static List<JsonNode> lines(String text) throws IOException {
        List<JsonNode> list = new ArrayList<>();
        for (String line : text.split("\n")) list.add(new ObjectMapper().readTree(line));
        return list;
    }

    private static List<JsonNode> of(List<JsonNode> lines, String kind, Predicate<JsonNode> which) {
        return lines.stream()
                .filter(l -> l.get("ev").asText().equals(kind))
                .filter(which)
                .toList();
    }

    private static JsonNode register(List<JsonNode> lines, String at) {
        List<JsonNode> found = of(lines, "register", l -> l.get("at").asText().equals(at));
        return found.get(found.size() - 1);
    }

    private static List<JsonNode> made(List<JsonNode> lines, String at) {
        long reg = register(lines, at).get("reg").asLong();
        return of(lines, "make", l -> l.get("reg").asLong() == reg);
    }

    @Test
    void componentsOfEveryKind() throws Exception {
        ByteArrayOutputStream out = new ByteArrayOutputStream();
        Recorder recorder =
                Recorder.forApplication("harbour").output(out).noExitHook().start();
        Framework framework = Office.launch(folder);
        BundleContext context = framework.getBundleContext();
        OsgiRecording recording = OsgiRecording.record(context, recorder);
        Bundles bundles = new Bundles(context);
        bundles.api();
        bundles.draft("clock")
                .component(HarbourClock.class, "clock", "", provides("singleton", Clock.class))
                .install()
                .start();
        bundles.draft("things")
                .component(PaperPage.class, "page", "deactivate=\"file\"", provides("bundle", LogPage.class))
                .component(PaperTicket.class, "ticket", "deactivate=\"tear\"", provides("prototype", Ticket.class))
                .install()
                .start();
        String dynamic = "<reference name=\"weather\" interface=\"" + WeatherReport.class.getName()
                + "\" cardinality=\"0..n\" policy=\"dynamic\" field=\"all\"/>";
        List<Bundle> desks = new ArrayList<>();
        for (String name : List.of("north", "south")) {
            Bundle desk = bundles.draft(name)
                    .component(
                            NightDesk.class,
                            name,
                            "init=\"3\" immediate=\"true\" deactivate=\"end\"",
                            parameter(0, "clock", Clock.class, ""),
                            parameter(1, "page", LogPage.class, ""),
                            parameter(2, "ticket", Ticket.class, "scope=\"prototype_required\""))
                    .install();
            desk.start();
            desks.add(desk);
        }
        assertTrue(recording.settle(SOON));
        // Ranking: the calm one is asked first. One of them goes, and comes again.
        bundles.draft("weather")
                .component(
                        BuoyWeather.class,
                        "buoy",
                        "init=\"1\" immediate=\"true\" deactivate=\"stop\"",
                        "<property name=\"station\" value=\"outer-bar\"/>",
                        provides("singleton", WeatherReport.class),
                        parameter(0, "clock", Clock.class, ""))
                .component(
                        FakeWeather.class,
                        "calm",
                        "immediate=\"true\"",
                        "<property name=\"service.ranking\" type=\"Integer\" value=\"5\"/>",
                        provides("singleton", WeatherReport.class))
                .install()
                .start();
        bundles.draft("waiting")
                .component(
                        PaperTicket.class,
                        "waiting",
                        "immediate=\"true\"",
                        "<reference name=\"tugs\" interface=\"" + Dispatcher.class.getName() + "\"/>",
                        provides("singleton", Ticket.class),
                        dynamic.replace("field=\"all\"", "bind=\"none\""))
                .install()
                .start();
        assertTrue(recording.settle(SOON));
        desks.get(0).stop();
        assertTrue(recording.settle(SOON));
        desks.get(0).start();
        assertTrue(recording.settle(SOON));
        framework.stop();
        framework.waitForStop(10_000);
        recording.close();
        recorder.close();

        List<JsonNode> lines = lines(out.toString(StandardCharsets.UTF_8));
        assertEquals("per-consumer", register(lines, "page").get("lifetime").asText());
        List<JsonNode> pages = made(lines, "page");
        assertEquals(
                Set.of("harbour.north", "harbour.south"),
                pages.stream().map(p -> p.get("module").asText()).collect(Collectors.toSet()));
        assertEquals(3, pages.size(), "one for each bundle, and one when it came again");
        assertEquals(3, made(lines, "ticket").size(), "one for each component that asked");
        assertEquals(1, made(lines, "clock").size());
        JsonNode north = made(lines, "north").get(0);
        assertEquals(2, made(lines, "north").size());
        assertEquals(
                "[" + made(lines, "clock").get(0).get("inst") + ","
                        + pages.stream()
                                .filter(p -> p.get("module").asText().equals("harbour.north"))
                                .findFirst()
                                .orElseThrow()
                                .get("inst")
                        + "," + made(lines, "ticket").get(0).get("inst") + "]",
                north.get("with").toString());
        assertEquals(
                1,
                of(lines, "register", l -> l.get("at").asText().equals("north") && !l.has("x")).stream()
                        .map(l -> l.get("reg").asLong())
                        .distinct()
                        .count(),
                "it is the same registration when it comes again");
        assertTrue(register(lines, "calm").path("primary").asBoolean(), "it is ranked highest");

        // What depended on something ended before it, and all of it has ended.
        List<Long> ended = of(lines, "dispose", l -> l.get("state").asText().equals("done")).stream()
                .map(l -> l.get("inst").asLong())
                .toList();
        List<JsonNode> all = of(lines, "make", l -> true);
        assertEquals(all.size(), ended.size());
        for (JsonNode make : all)
            for (JsonNode given : make.get("with"))
                // 0: what was given had not been read when its consumer was, which may happen while bundles start.
                if (given.asLong() != 0)
                    assertTrue(
                            ended.indexOf(make.get("inst").asLong()) < ended.indexOf(given.asLong()), make::toString);
        JsonNode fail = of(lines, "fail", l -> true).get(0);
        assertEquals("missing", fail.get("why").asText());
        assertEquals(Dispatcher.class.getName(), fail.get("service").asText());
        assertEquals(1, of(lines, "bye", l -> !l.has("why")).size());
    }

    /** The recorder as bundles of the framework itself, switched on by properties. */
    @Test
    void theBundlesThemselves() throws Exception {
        Path trace = folder.resolve("trace.ndjson");
        System.setProperty("keenlantern.application", "harbour");
        System.setProperty("keenlantern.output", trace.toString());
        Framework framework = Office.launch(folder.resolve("cache"));
        try {
            BundleContext context = framework.getBundleContext();
            Bundle core = install(context, "../core/target");
            Bundle recorder = install(context, "../osgi/target");
            core.start();
            recorder.start();
            Bundles bundles = new Bundles(context);
            bundles.api();
            bundles.draft("clock")
                    .component(HarbourClock.class, "clock", "immediate=\"true\"", provides("singleton", Clock.class))
                    .install()
                    .start();
            for (int n = 0; n < 200 && !Files.readString(trace).contains("\"ev\":\"make\""); n++) Thread.sleep(50);
        } finally {
            System.clearProperty("keenlantern.application");
            System.clearProperty("keenlantern.output");
            framework.stop();
            framework.waitForStop(10_000);
        }
        for (int n = 0; n < 100 && !Files.readString(trace).contains("\"bye\""); n++) Thread.sleep(50);
        List<JsonNode> lines = lines(Files.readString(trace));
        assertEquals(1, made(lines, "clock").size());
        assertEquals("bye", lines.get(lines.size() - 1).get("ev").asText());
    }

    private static Bundle install(BundleContext context, String target) throws Exception {
        Path jar;
        try (Stream<Path> files = Files.list(Path.of(target))) {
            jar = files.filter(f -> f.getFileName().toString().matches("keenlantern-record.*\\.jar"))
                    .filter(f -> !f.toString().matches(".*-(sources|javadoc)\\.jar"))
                    .max(Comparator.comparing(f -> f.toFile().lastModified()))
                    .orElseThrow(() -> new AssertionError("nothing is packed in " + target + "; run 'make recorders'"));
        }
        try (InputStream in = Files.newInputStream(jar)) {
            return context.installBundle("file:" + jar.getFileName(), in);
        }
    }
}
