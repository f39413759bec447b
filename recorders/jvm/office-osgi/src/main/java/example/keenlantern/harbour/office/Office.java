package example.keenlantern.harbour.office;

import static example.keenlantern.harbour.office.Bundles.parameter;
import static example.keenlantern.harbour.office.Bundles.provides;

import example.keenlantern.harbour.api.Clock;
import example.keenlantern.harbour.api.Crew;
import example.keenlantern.harbour.api.Dispatcher;
import example.keenlantern.harbour.api.LogPage;
import example.keenlantern.harbour.api.Ticket;
import example.keenlantern.harbour.api.WeatherReport;
import example.keenlantern.harbour.clock.HarbourClock;
import example.keenlantern.harbour.desk.ArrivalDesk;
import example.keenlantern.harbour.desk.PaperPage;
import example.keenlantern.harbour.desk.PaperTicket;
import example.keenlantern.harbour.night.NightDesk;
import example.keenlantern.harbour.tugs.TugCrew;
import example.keenlantern.harbour.tugs.TugDispatcher;
import example.keenlantern.harbour.weather.BuoyWeather;
import example.keenlantern.harbour.weather.FakeWeather;
import example.keenlantern.record.Config;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Totals;
import example.keenlantern.record.osgi.OsgiRecording;
import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;
import java.util.stream.Stream;
import org.apache.felix.framework.FrameworkFactory;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleContext;
import org.osgi.framework.BundleException;
import org.osgi.framework.Constants;
import org.osgi.framework.launch.Framework;

/**
 * Runs the office of bundles, with a mistake, while it is recorded:
 *
 * <pre>
 * java -cp 'office-osgi.jar:lib/*' example.keenlantern.harbour.office.Office run --service URL [--mistake NAME]
 * </pre>
 */
public final class Office {
    private static final Map<String, String> MISTAKES = new LinkedHashMap<>();

    static {
        MISTAKES.put(
                "two-clocks",
                "the night job's clock was registered a second time instead of asking for the one there is");
        MISTAKES.put(
                "station-misspelt", "the radio desk asks for the weather of a station whose name is spelt otherwise");
        MISTAKES.put("crew-waits-for-tug", "the tug's crew asks for the dispatcher, who asks for the crew");
        MISTAKES.put("stand-in-weather", "the weather that tests use was left in place of the buoy's");
    }

    private Office() {}

    /** Runs it. */
    public static void main(String[] args) throws Exception {
        String command = args.length == 0 ? "" : args[0];
        Map<String, String> options = new HashMap<>();
        for (int n = 1; n + 1 < args.length; n += 2) options.put(args[n], args[n + 1]);
        String mistake = options.getOrDefault("--mistake", "none");
        if (command.equals("list")) {
            MISTAKES.forEach((name, says) -> System.out.printf("%-20s %s%n", name, says));
            return;
        }
        if (!command.equals("run") || !mistake.equals("none") && !MISTAKES.containsKey(mistake)) {
            System.err.println("usage: Office run --service URL [--mistake NAME] | Office list");
            System.exit(2);
        }
        Config config = Recorder.forApplication("harbour-office-osgi")
                .version(options.getOrDefault("--version", "1.0.0"))
                .environment("production")
                .token(options.get("--token"));
        if (options.containsKey("--output")) config.output(Path.of(options.get("--output")));
        else config.service(options.getOrDefault("--service", "http://127.0.0.1:7460"));
        Recorder recorder = config.start();
        String stream = recorder.stream();
        run(recorder, mistake);
        recorder.close();
        Totals totals = recorder.totals();
        System.out.printf(
                "{\"stream\":\"%s\",\"events\":%d,\"lost\":%d,\"bytes\":%d}%n",
                stream, totals.events(), totals.lost(), totals.bytes());
    }

    private static void run(Recorder recorder, String mistake) throws Exception {
        Path cache = Files.createTempDirectory("office");
        Framework framework = launch(cache);
        OsgiRecording recording = OsgiRecording.record(framework.getBundleContext(), recorder);
        try {
            List<Bundle> bundles = install(framework.getBundleContext(), mistake);
            for (Bundle bundle : bundles) bundle.start();
            recording.settle(Duration.ofSeconds(10));
            // The buoy's bundle is updated while the office goes on.
            Bundle weather = bundles.stream()
                    .filter(b -> b.getSymbolicName().equals("harbour.weather"))
                    .findFirst()
                    .orElseThrow();
            weather.stop();
            recording.settle(Duration.ofSeconds(10));
            weather.start();
            recording.settle(Duration.ofSeconds(10));
        } finally {
            framework.stop();
            framework.waitForStop(10_000);
            recording.close();
            try (Stream<Path> files = Files.walk(cache)) {
                files.sorted(java.util.Comparator.reverseOrder())
                        .forEach(f -> f.toFile().delete());
            }
        }
    }

    /**
     * Starts a framework with a component runtime.
     *
     * @param shared packages of the launcher's that bundles may import
     */
    public static Framework launch(Path cache, String... shared) throws Exception {
        Map<String, String> settings = new HashMap<>();
        settings.put(Constants.FRAMEWORK_STORAGE, cache.toString());
        settings.put(Constants.FRAMEWORK_STORAGE_CLEAN, Constants.FRAMEWORK_STORAGE_CLEAN_ONFIRSTINIT);
        // The launcher and the bundles see the same component runtime.
        settings.put(
                Constants.FRAMEWORK_SYSTEMPACKAGES_EXTRA,
                "org.osgi.service.component;version=1.5.1,org.osgi.service.component.runtime;version=1.5,"
                        + "org.osgi.service.component.runtime.dto;version=1.5,"
                        + "org.osgi.util.promise;version=1.3,org.osgi.util.function;version=1.2"
                        + Stream.of(shared).map(name -> "," + name).collect(Collectors.joining()));
        settings.put("felix.log.level", "1");
        settings.put("ds.loglevel", "error");
        Framework framework = new FrameworkFactory().newFramework(settings);
        framework.start();
        BundleContext context = framework.getBundleContext();
        Path runtime = Path.of(org.apache.felix.scr.info.ScrInfo.class
                .getProtectionDomain()
                .getCodeSource()
                .getLocation()
                .toURI());
        try (InputStream in = Files.newInputStream(runtime)) {
            context.installBundle("file:" + runtime.getFileName(), in).start();
        }
        return framework;
    }

    private static List<Bundle> install(BundleContext context, String mistake) throws BundleException {
        Bundles bundles = new Bundles(context);
        List<Bundle> all = new ArrayList<>();
        all.add(bundles.api());
        all.add(bundles.draft("clock")
                .exports("clock")
                .component(HarbourClock.class, "harbour.clock", "", provides("singleton", Clock.class))
                .install());
        Bundles.Draft weather = bundles.draft("weather");
        // "Only until the buoy is back".
        if (mistake.equals("stand-in-weather"))
            weather.component(
                    FakeWeather.class,
                    "harbour.weather",
                    "",
                    "<property name=\"station\" value=\"outer-bar\"/>",
                    provides("singleton", WeatherReport.class));
        else
            weather.component(
                    BuoyWeather.class,
                    "harbour.weather",
                    "init=\"1\" deactivate=\"stop\"",
                    "<property name=\"station\" value=\"outer-bar\"/>",
                    provides("singleton", WeatherReport.class),
                    parameter(0, "clock", Clock.class, ""));
        all.add(weather.install());
        // The crew wanted to know which tug it is for, and asked who sends it.
        String asks = mistake.equals("crew-waits-for-tug")
                ? "<reference name=\"dispatcher\" interface=\"" + Dispatcher.class.getName() + "\" bind=\"sentBy\"/>"
                : "";
        all.add(bundles.draft("tugs")
                .component(TugCrew.class, "harbour.crew", "", provides("singleton", Crew.class), asks)
                .component(
                        TugDispatcher.class,
                        "harbour.dispatcher",
                        "init=\"2\" deactivate=\"end\"",
                        provides("singleton", Dispatcher.class),
                        parameter(0, "crew", Crew.class, ""),
                        parameter(1, "weather", WeatherReport.class, "target=\"(station=outer-bar)\""))
                .install());
        // The chart writes it in one word.
        String station = mistake.equals("station-misspelt") ? "outerbar" : "outer-bar";
        all.add(bundles.draft("desk")
                .component(PaperPage.class, "harbour.page", "deactivate=\"file\"", provides("bundle", LogPage.class))
                .component(
                        PaperTicket.class, "harbour.ticket", "deactivate=\"tear\"", provides("prototype", Ticket.class))
                .component(
                        ArrivalDesk.class,
                        "harbour.desk",
                        "init=\"3\" immediate=\"true\" deactivate=\"end\"",
                        parameter(0, "tugs", Dispatcher.class, ""),
                        parameter(1, "page", LogPage.class, ""),
                        parameter(2, "ticket", Ticket.class, "scope=\"prototype_required\""),
                        "<reference name=\"weather\" interface=\"" + WeatherReport.class.getName()
                                + "\" cardinality=\"0..1\" policy=\"dynamic\" bind=\"weather\" unbind=\"noWeather\""
                                + " target=\"(station=" + station + ")\"/>")
                .install());
        Bundles.Draft night = bundles.draft("night")
                .component(
                        NightDesk.class,
                        "harbour.night",
                        "init=\"3\" immediate=\"true\" activate=\"begin\" deactivate=\"end\"",
                        parameter(0, "clock", Clock.class, ""),
                        parameter(1, "page", LogPage.class, ""),
                        parameter(2, "ticket", Ticket.class, "scope=\"prototype_required\""));
        // The night job's author did not find the office's clock, and declared one that goes before any other.
        if (mistake.equals("two-clocks"))
            night.imports("clock")
                    .component(
                            HarbourClock.class,
                            "night.clock",
                            "",
                            "<property name=\"service.ranking\" type=\"Integer\" value=\"10\"/>",
                            provides("singleton", Clock.class));
        all.add(night.install());
        return all;
    }
}
