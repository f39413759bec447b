package example.keenlantern.gallery;

import java.io.IOException;
import java.lang.reflect.Constructor;
import java.net.CookieManager;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.ArrayList;
import java.util.List;
import java.util.Properties;
import org.springframework.boot.SpringApplication;
import org.springframework.boot.autoconfigure.jdbc.DataSourceAutoConfiguration;
import org.springframework.boot.context.event.ApplicationFailedEvent;
import org.springframework.boot.logging.LogLevel;
import org.springframework.boot.logging.LoggingSystem;
import org.springframework.boot.web.context.WebServerApplicationContext;
import org.springframework.context.ApplicationListener;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.test.annotation.DirtiesContext;
import org.springframework.test.context.TestContextManager;

/** How an application is run. */
public final class Running {
    private final String name;
    private final String output;
    private final boolean mistaken;

    /** Work of an application. */
    @FunctionalInterface
    public interface Work {
        /** Does it. */
        void run(Running running) throws Exception;
    }

    /** Work in a context. */
    @FunctionalInterface
    public interface In {
        /** Does it. */
        void run(ConfigurableApplicationContext context) throws Exception;
    }

    Running(String name, String output, boolean mistaken) {
        this.name = name;
        this.output = output;
        this.mistaken = mistaken;
    }

    /** Whether the application makes its mistake. */
    public boolean mistaken() {
        return mistaken;
    }

    /** Starts a web application without a database, works in it, and closes it. */
    public void web(Class<?> application, In work, String... properties) throws Exception {
        start(application, true, false, work, properties);
    }

    /** Starts an application without a web server and a database, works in it, and closes it. */
    public void plain(Class<?> application, In work, String... properties) throws Exception {
        start(application, false, false, work, properties);
    }

    /** Starts a web application with a database, works in it, and closes it. */
    public void database(Class<?> application, In work, String... properties) throws Exception {
        start(application, true, true, work, properties);
    }

    /** Starts a web application that cannot be built. */
    public void refused(Class<?> application, String... properties) throws Exception {
        try {
            web(application, context -> {}, properties);
        } catch (RuntimeException e) {
            return;
        }
        throw new IllegalStateException(name + " starts");
    }

    /** A test of a layer, with what Boot fills in. */
    public interface Test {
        /** Runs it. */
        void run() throws Exception;
    }

    /** Runs a test of an application's layer as a test framework does; the one with the mistake does not start. */
    public void test(Class<? extends Test> type) throws Exception {
        Properties settings = System.getProperties();
        System.setProperties(new Properties(settings));
        for (String setting : settings(List.of())) {
            String[] pair = setting.split("=", 2);
            System.setProperty(pair[0], pair[1]);
        }
        System.setProperty("spring.test.print-condition-evaluation-report", "false");
        LoggingSystem.get(type.getClassLoader()).setLogLevel(LoggingSystem.ROOT_LOGGER_NAME, LogLevel.OFF);
        Counts.begin();
        TestContextManager manager = new TestContextManager(type);
        try {
            Constructor<? extends Test> constructor = type.getDeclaredConstructor();
            constructor.setAccessible(true);
            Test test = constructor.newInstance();
            manager.beforeTestClass();
            try {
                manager.prepareTestInstance(test);
                if (mistaken) throw new AssertionError(name + " starts");
                test.run();
            } catch (IllegalStateException e) {
                Counts.stop();
                if (!mistaken) throw e;
            }
            if (!mistaken)
                manager.getTestContext().markApplicationContextDirty(DirtiesContext.HierarchyMode.EXHAUSTIVE);
        } finally {
            System.setProperties(settings);
        }
    }

    private List<String> settings(List<String> properties) {
        List<String> all = new ArrayList<>(properties);
        all.add("spring.main.banner-mode=off");
        all.add("logging.level.root=off");
        all.add("server.port=0");
        all.add("keenlantern.application=gallery-" + name);
        all.add("keenlantern.environment=production");
        all.add("keenlantern.output=" + output);
        return all;
    }

    private void start(Class<?> application, boolean web, boolean database, In work, String... properties)
            throws Exception {
        SpringApplication boot = new SpringApplication(application);
        List<String> args = settings(List.of(properties));
        if (!web) args.add("spring.main.web-application-type=none");
        if (!database) args.add("spring.autoconfigure.exclude=" + DataSourceAutoConfiguration.class.getName());
        if (mistaken) args.add("spring.profiles.active=mistaken");
        boot.addListeners((ApplicationListener<ApplicationFailedEvent>) event -> Counts.stop());
        Counts.begin();
        try (ConfigurableApplicationContext context =
                boot.run(args.stream().map(a -> "--" + a).toArray(String[]::new))) {
            work.run(context);
        }
    }

    /** A client with cookies of its own, for a visitor. */
    public static HttpClient visitor() {
        return HttpClient.newBuilder().cookieHandler(new CookieManager()).build();
    }

    /** Makes a request, which has to be answered. */
    public static void get(ConfigurableApplicationContext context, HttpClient visitor, String path)
            throws IOException, InterruptedException {
        int port = ((WebServerApplicationContext) context).getWebServer().getPort();
        HttpResponse<String> answer = visitor.send(
                HttpRequest.newBuilder(URI.create("http://127.0.0.1:" + port + path))
                        .build(),
                HttpResponse.BodyHandlers.ofString());
        if (answer.statusCode() != 200)
            throw new IllegalStateException(path + " is answered " + answer.statusCode() + ": " + answer.body());
    }

    /** Makes some requests of one visitor. */
    public static void get(ConfigurableApplicationContext context, String path, int times)
            throws IOException, InterruptedException {
        HttpClient visitor = visitor();
        for (int n = 0; n < times; n++) get(context, visitor, path);
    }
}
