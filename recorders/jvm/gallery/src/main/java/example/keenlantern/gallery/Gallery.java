package example.keenlantern.gallery;

import example.keenlantern.gallery.asynchronous.AsynchronousApplication;
import example.keenlantern.gallery.caching.CachingApplication;
import example.keenlantern.gallery.components.ComponentsApplication;
import example.keenlantern.gallery.configuration.ConfigurationApplication;
import example.keenlantern.gallery.contexts.ContextsApplication;
import example.keenlantern.gallery.conversations.ConversationsApplication;
import example.keenlantern.gallery.events.EventsApplication;
import example.keenlantern.gallery.factories.FactoriesApplication;
import example.keenlantern.gallery.lifecycle.LifecycleApplication;
import example.keenlantern.gallery.management.ManagementApplication;
import example.keenlantern.gallery.optional.OptionalApplication;
import example.keenlantern.gallery.pools.PoolsApplication;
import example.keenlantern.gallery.providers.ProvidersApplication;
import example.keenlantern.gallery.qualifiers.QualifiersApplication;
import example.keenlantern.gallery.repositories.RepositoriesApplication;
import example.keenlantern.gallery.requests.RequestsApplication;
import example.keenlantern.gallery.scheduled.ScheduledApplication;
import example.keenlantern.gallery.sessions.SessionsApplication;
import example.keenlantern.gallery.slices.SlicesApplication;
import example.keenlantern.gallery.transactions.TransactionsApplication;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;

/**
 * Runs one small application under the recorder, sound or with the mistake that people make there, and prints what it counted:
 *
 * <pre>java -jar gallery.jar NAME --output FILE [--mistaken]</pre>
 *
 * or all of them, one after the other, into a folder:
 *
 * <pre>java -jar gallery.jar --all --output FOLDER</pre>
 */
public final class Gallery {
    private static final Map<String, Running.Work> APPLICATIONS = new TreeMap<>(Map.ofEntries(
            Map.entry("asynchronous", AsynchronousApplication::run),
            Map.entry("caching", CachingApplication::run),
            Map.entry("components", ComponentsApplication::run),
            Map.entry("configuration", ConfigurationApplication::run),
            Map.entry("contexts", ContextsApplication::run),
            Map.entry("conversations", ConversationsApplication::run),
            Map.entry("events", EventsApplication::run),
            Map.entry("factories", FactoriesApplication::run),
            Map.entry("lifecycle", LifecycleApplication::run),
            Map.entry("management", ManagementApplication::run),
            Map.entry("optional", OptionalApplication::run),
            Map.entry("pools", PoolsApplication::run),
            Map.entry("providers", ProvidersApplication::run),
            Map.entry("qualifiers", QualifiersApplication::run),
            Map.entry("repositories", RepositoriesApplication::run),
            Map.entry("requests", RequestsApplication::run),
            Map.entry("scheduled", ScheduledApplication::run),
            Map.entry("sessions", SessionsApplication::run),
            Map.entry("slices", SlicesApplication::run),
            Map.entry("transactions", TransactionsApplication::run)));

    private Gallery() {}

    /** Runs one. */
    public static void main(String[] args) throws Exception {
        List<String> list = Arrays.asList(args);
        int at = list.indexOf("--output");
        boolean all = list.contains("--all");
        Running.Work work = list.isEmpty() ? null : APPLICATIONS.get(list.get(0));
        if (work == null && !all || at < 0 || at + 1 == list.size()) {
            System.err.println(
                    "usage: gallery NAME --output FILE [--mistaken], or --all --output FOLDER; NAME is one of "
                            + String.join(", ", APPLICATIONS.keySet()));
            System.exit(2);
        }
        String output = list.get(at + 1);
        if (!all) run(list.get(0), output, list.contains("--mistaken"));
        else {
            for (String name : APPLICATIONS.keySet()) {
                run(name, output + "/" + name + ".ndjson", false);
                run(name, output + "/" + name + "-mistaken.ndjson", true);
            }
        }
        System.exit(0); // pools of the framework may have threads left
    }

    private static void run(String name, String output, boolean mistaken) throws Exception {
        APPLICATIONS.get(name).run(new Running(name, output, mistaken));
        System.out.println(Counts.json(name, mistaken));
    }
}
