package example.keenlantern.gallery.osgi;

import static example.keenlantern.harbour.office.Bundles.parameter;
import static example.keenlantern.harbour.office.Bundles.provides;

import example.keenlantern.gallery.osgi.api.Barometer;
import example.keenlantern.gallery.osgi.api.Blotter;
import example.keenlantern.gallery.osgi.api.Inkwell;
import example.keenlantern.gallery.osgi.api.Notebook;
import example.keenlantern.gallery.osgi.api.Quill;
import example.keenlantern.gallery.osgi.counts.Counts;
import example.keenlantern.gallery.osgi.desk.GlassInkwell;
import example.keenlantern.gallery.osgi.desk.GooseQuill;
import example.keenlantern.gallery.osgi.desk.PaperNotebook;
import example.keenlantern.gallery.osgi.tower.Copyist;
import example.keenlantern.gallery.osgi.tower.DeepInkwell;
import example.keenlantern.gallery.osgi.tower.Forecaster;
import example.keenlantern.gallery.osgi.tower.Illuminator;
import example.keenlantern.gallery.osgi.tower.Observer;
import example.keenlantern.gallery.osgi.tower.Reader;
import example.keenlantern.gallery.osgi.tower.SandBlotter;
import example.keenlantern.harbour.office.Bundles;
import example.keenlantern.harbour.office.Office;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.osgi.OsgiRecording;
import java.io.File;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Stream;
import org.osgi.framework.Bundle;
import org.osgi.framework.BundleException;
import org.osgi.framework.launch.Framework;

/**
 * Runs one small application of bundles under the recorder, sound or with a mistake, and prints what it counted:
 *
 * <pre>java -jar gallery.jar NAME --output FILE [--mistaken]</pre>
 *
 * or all of them, one after the other, into a folder:
 *
 * <pre>java -jar gallery.jar --all --output FOLDER</pre>
 */
public final class Gallery {
    private static final String ROOT = "example.keenlantern.gallery.osgi.";
    private static final Duration SOON = Duration.ofSeconds(10);
    private static final Map<String, Application> APPLICATIONS =
            new TreeMap<>(Map.of("notebooks", Gallery::notebooks, "quills", Gallery::quills));

    /** Installs an application's bundles. */
    @FunctionalInterface
    private interface Application {
        void install(Bundles bundles, List<Bundle> all, boolean mistaken) throws BundleException;
    }

    private Gallery() {}

    /** Runs one, or all. */
    public static void main(String[] args) throws Exception {
        List<String> list = Arrays.asList(args);
        int at = list.indexOf("--output");
        boolean all = list.contains("--all");
        if (at < 0 || at + 1 == list.size() || !all && !APPLICATIONS.containsKey(list.get(0))) {
            System.err.println(
                    "usage: gallery NAME --output FILE [--mistaken], or --all --output FOLDER; NAME is one of "
                            + String.join(", ", APPLICATIONS.keySet()));
            System.exit(2);
        }
        String output = list.get(at + 1);
        if (!all) run(list.get(0), output, list.contains("--mistaken"));
        else
            for (String name : APPLICATIONS.keySet()) {
                run(name, output + "/" + name + ".ndjson", false);
                run(name, output + "/" + name + "-mistaken.ndjson", true);
            }
    }

    private static void run(String name, String output, boolean mistaken) throws Exception {
        Counts.begin();
        Path cache = Files.createTempDirectory("gallery");
        try (Recorder recorder = Recorder.forApplication("gallery-" + name)
                .environment("production")
                .output(Path.of(output))
                .start()) {
            Framework framework = Office.launch(cache, ROOT + "counts");
            OsgiRecording recording = OsgiRecording.record(framework.getBundleContext(), recorder);
            try {
                List<Bundle> bundles = new ArrayList<>();
                APPLICATIONS
                        .get(name)
                        .install(new Bundles(framework.getBundleContext(), ROOT, "gallery."), bundles, mistaken);
                for (Bundle bundle : bundles) bundle.start();
                recording.settle(SOON);
                // One goes, and comes again.
                Bundle last = bundles.get(bundles.size() - 1);
                last.stop();
                recording.settle(SOON);
                last.start();
                recording.settle(SOON);
            } finally {
                framework.stop();
                framework.waitForStop(SOON.toMillis());
                recording.close();
            }
        } finally {
            try (Stream<Path> files = Files.walk(cache)) {
                files.sorted(Comparator.reverseOrder()).map(Path::toFile).forEach(File::delete);
            }
        }
        System.out.println(Counts.json(name, mistaken));
    }

    // A service of bundle scope: two towers, each with its notebook, which its components share.
    private static void notebooks(Bundles bundles, List<Bundle> all, boolean mistaken) throws BundleException {
        all.add(api(bundles));
        all.add(bundles.draft("desk")
                .imports("counts")
                .component(PaperNotebook.class, "notebook", "deactivate=\"end\"", provides("bundle", Notebook.class))
                .install());
        for (String tower : List.of("north", "south")) {
            Bundles.Draft draft = bundles.draft(tower)
                    .imports("counts")
                    .component(
                            Observer.class,
                            tower + ".observer",
                            working(1),
                            parameter(0, "notebook", Notebook.class, ""))
                    .component(
                            Reader.class, tower + ".reader", working(1), parameter(0, "notebook", Notebook.class, ""));
            // The bundle with the instrument was never installed.
            if (mistaken && tower.equals("south"))
                draft.component(
                        Forecaster.class,
                        "south.forecaster",
                        working(2),
                        parameter(0, "notebook", Notebook.class, ""),
                        parameter(1, "barometer", Barometer.class, ""));
            all.add(draft.install());
        }
    }

    // A service of prototype scope beside one that all share.
    private static void quills(Bundles bundles, List<Bundle> all, boolean mistaken) throws BundleException {
        String own = "scope=\"prototype_required\"";
        all.add(api(bundles));
        Bundles.Draft desk = bundles.draft("desk")
                .imports("counts")
                .component(GooseQuill.class, "quill", "deactivate=\"end\"", provides("prototype", Quill.class));
        // The two of them ask for each other.
        if (!mistaken)
            desk.component(GlassInkwell.class, "inkwell", "deactivate=\"end\"", provides("singleton", Inkwell.class));
        else
            desk.component(
                            DeepInkwell.class,
                            "inkwell",
                            "init=\"1\" deactivate=\"end\"",
                            provides("singleton", Inkwell.class),
                            parameter(0, "blotter", Blotter.class, ""))
                    .component(
                            SandBlotter.class,
                            "blotter",
                            "init=\"1\" deactivate=\"end\"",
                            provides("singleton", Blotter.class),
                            parameter(0, "inkwell", Inkwell.class, ""));
        all.add(desk.install());
        Bundles.Draft tower = bundles.draft("tower").imports("counts");
        tower.component(
                Copyist.class,
                "copyist",
                working(2),
                parameter(0, "quill", Quill.class, own),
                parameter(1, "inkwell", Inkwell.class, ""));
        tower.component(
                Illuminator.class,
                "illuminator",
                working(3),
                parameter(0, "fine", Quill.class, own),
                parameter(1, "broad", Quill.class, own),
                parameter(2, "inkwell", Inkwell.class, ""));
        all.add(tower.install());
    }

    private static String working(int parameters) {
        return "init=\"" + parameters + "\" immediate=\"true\" activate=\"begin\" deactivate=\"end\"";
    }

    private static Bundle api(Bundles bundles) throws BundleException {
        return bundles.draft("api")
                .exports("api")
                .with(Barometer.class, Blotter.class, Inkwell.class, Notebook.class, Quill.class)
                .install();
    }
}
