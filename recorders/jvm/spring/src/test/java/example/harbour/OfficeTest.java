package example.harbour;

import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertFalse;
import static org.junit.jupiter.api.Assertions.assertTrue;

import com.fasterxml.jackson.databind.JsonNode;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.Setting;
import java.net.CookieManager;
import java.net.URI;
import java.net.http.HttpClient;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.Callable;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicInteger;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;
import org.springframework.beans.factory.annotation.Autowired;
import org.springframework.beans.factory.support.DefaultListableBeanFactory;
import org.springframework.boot.autoconfigure.EnableAutoConfiguration;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Import;
import org.springframework.core.metrics.ApplicationStartup;
import org.springframework.messaging.support.ExecutorSubscribableChannel;
import org.springframework.messaging.support.GenericMessage;
import org.springframework.scheduling.annotation.Async;
import org.springframework.scheduling.annotation.EnableAsync;
import org.springframework.scheduling.annotation.EnableScheduling;
import org.springframework.scheduling.annotation.Scheduled;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.context.annotation.RequestScope;
import org.springframework.web.context.annotation.SessionScope;

/** Requests, sessions, scheduled and asynchronous work, and messages of a real application, beside what it counts itself. */
class OfficeTest {
    static final AtomicInteger PAGES = new AtomicInteger(); // opened
    static final AtomicInteger CLOSED = new AtomicInteger();
    static final AtomicInteger RUNS = new AtomicInteger();
    static final AtomicInteger FILES = new AtomicInteger();
    static final CountDownLatch FILED = new CountDownLatch(1);

    @RequestScope
    static class LogPage implements AutoCloseable {
        LogPage() {
            PAGES.incrementAndGet();
        }

        int write() {
            return 1;
        }

        @Override
        public void close() {
            CLOSED.incrementAndGet();
        }
    }

    @SessionScope
    static class Watch implements AutoCloseable {
        private int asked;

        int ask() {
            return ++asked;
        }

        @Override
        public void close() {}
    }

    static class Archive {
        @Async
        void file() {
            FILES.incrementAndGet();
            FILED.countDown();
        }

        @Scheduled(fixedDelay = 10)
        void sort() {
            RUNS.incrementAndGet();
        }
    }

    @RestController
    static class Office {
        @Autowired
        private LogPage page;

        @Autowired
        private Watch watch;

        @Autowired
        private Archive archive;

        @GetMapping("/pages/{name}")
        int page(@PathVariable String name) {
            return page.write();
        }

        @GetMapping("/watch")
        int watch() {
            return watch.ask();
        }

        @GetMapping("/file")
        void file() {
            archive.file();
        }

        @GetMapping("/slow")
        Callable<Integer> slow() {
            int written = page.write();
            return () -> {
                Thread.sleep(20);
                return written;
            };
        }
    }

    @Configuration(proxyBeanMethods = false)
    @EnableAutoConfiguration
    @EnableScheduling
    @EnableAsync
    @Import({LogPage.class, Watch.class, Archive.class, Office.class})
    static class Wiring {
        @Bean
        ExecutorSubscribableChannel radio() {
            return new ExecutorSubscribableChannel();
        }
    }

    @ParameterizedTest
    @ValueSource(booleans = {false, true})
    void anApplication(boolean virtualThreads) throws Exception {
        PAGES.set(0);
        CLOSED.set(0);
        Trace trace = new Trace();
        Recorder recorder = trace.recorder();
        Recorder.install(recorder);
        HttpClient client =
                HttpClient.newBuilder().cookieHandler(new CookieManager()).build();
        String traceId = "4bf92f3577b34da6a3ce929d0e0e4736";
        try (ConfigurableApplicationContext context = new SpringApplicationBuilder(Wiring.class)
                .properties(Map.of(
                        "server.port", "0",
                        "spring.main.banner-mode", "off",
                        "spring.threads.virtual.enabled", virtualThreads,
                        "server.servlet.session.timeout", "60s"))
                .run()) {
            String url = "http://127.0.0.1:" + context.getEnvironment().getProperty("local.server.port");
            List<CompletableFuture<HttpResponse<String>>> asked = new java.util.ArrayList<>();
            for (int n = 0; n < 200; n++) {
                HttpRequest request = HttpRequest.newBuilder(URI.create(url + "/pages/north-" + n))
                        .header("traceparent", "00-" + traceId + "-00f067aa0ba902b7-01")
                        .build();
                asked.add(client.sendAsync(request, HttpResponse.BodyHandlers.ofString()));
            }
            for (var one : asked) assertEquals(200, one.join().statusCode());
            for (int n = 1; n <= 3; n++) assertEquals(String.valueOf(n), get(client, url + "/watch"));
            get(client, url + "/file");
            assertEquals("1", get(client, url + "/slow"));
            get(client, url + "/nowhere/secret-path");
            assertTrue(FILED.await(5, TimeUnit.SECONDS));
            ExecutorSubscribableChannel radio = context.getBean(ExecutorSubscribableChannel.class);
            radio.subscribe(message -> recorder.run("step", "answer", () -> {}));
            radio.send(new GenericMessage<>("Grey Seal"));
            int runs = RUNS.get();
            while (RUNS.get() < runs + 3) Thread.sleep(5);
        } finally {
            Recorder.install(null);
        }
        recorder.close();
        assertEquals(List.of(), trace.trouble);

        // What the application counted, and what was recorded.
        List<JsonNode> pages = trace.made(trace.register("LogPage", "scopedTarget." + LogPage.class.getName()));
        assertEquals(PAGES.get(), pages.size());
        assertEquals(
                CLOSED.get(),
                trace.disposals().stream().filter("LogPage done"::equals).count());
        Set<Long> homes = new HashSet<>();
        pages.forEach(m -> homes.add(m.get("owner").asLong()));
        assertEquals(pages.size(), homes.size(), "one in each request");
        List<JsonNode> routed = trace.of("open", l -> l.path("name").asText().equals("GET /pages/{name}"));
        assertEquals(200, routed.size());
        for (JsonNode open : routed) assertEquals(traceId, open.get("trace").asText());
        assertFalse(trace.lines().toString().contains("secret-path"));
        assertFalse(trace.lines().toString().contains("north-"));

        JsonNode session =
                trace.of("open", l -> l.path("kind").asText().equals("session")).get(0);
        JsonNode watch = trace.onlyMade("Watch", "scopedTarget." + Watch.class.getName());
        assertEquals(session.get("scope").asLong(), watch.get("owner").asLong());
        assertEquals(
                2,
                trace.of(
                                "open",
                                l -> l.path("name").asText().equals("GET /watch")
                                        && l.has("in")
                                        && l.get("in").asLong()
                                                == session.get("scope").asLong())
                        .size(),
                "requests of a session lie in it");
        assertEquals(
                1,
                trace.of("open", l -> l.path("kind").asText().equals("async")).size());
        assertTrue(trace.of("open", l -> l.path("name").asText().endsWith("Archive.sort"))
                        .size()
                >= 3);
        JsonNode message =
                trace.of("open", l -> l.path("kind").asText().equals("message")).get(0);
        assertEquals("radio", message.get("name").asText());
        assertEquals(
                message.get("scope").asLong(),
                trace.of("open", l -> l.path("kind").asText().equals("step"))
                        .get(0)
                        .get("in")
                        .asLong());
        // Everything that was opened has been closed.
        Set<Long> open = new HashSet<>();
        trace.of("open", l -> true).forEach(l -> open.add(l.get("scope").asLong()));
        trace.of("close", l -> true).forEach(l -> open.remove(l.get("scope").asLong()));
        assertEquals(Set.of(), open);
    }

    private static String get(HttpClient client, String url) throws Exception {
        return client.send(HttpRequest.newBuilder(URI.create(url)).build(), HttpResponse.BodyHandlers.ofString())
                .body();
    }

    // While nothing is recorded the application's bean factory is as it would be; what is recorded later lacks nothing.
    @Test
    void switchedWhileItRuns() throws Exception {
        Trace trace = new Trace();
        Recorder recorder = trace.recorder();
        recorder.set(Setting.OFF);
        Recorder.install(recorder);
        HttpClient client = HttpClient.newHttpClient();
        int opened = 0;
        try (ConfigurableApplicationContext context = new SpringApplicationBuilder(Wiring.class)
                .properties(Map.of("server.port", "0", "spring.main.banner-mode", "off"))
                .run()) {
            DefaultListableBeanFactory beans = (DefaultListableBeanFactory) context.getBeanFactory();
            String url = "http://127.0.0.1:" + context.getEnvironment().getProperty("local.server.port");
            get(client, url + "/pages/north");
            for (int round = 0; round < 2; round++) {
                assertEquals(ApplicationStartup.DEFAULT, beans.getApplicationStartup());
                assertEquals(List.of(), ours(beans), "what is built does not pass through them");
                int processors = beans.getBeanPostProcessorCount();
                int before = PAGES.get();
                int filed = FILES.get();
                recorder.set(Setting.ON);
                assertEquals(List.of("AsyncWork", "MessageWork", "WatchedBeans", "WatchedEnds"), ours(beans));
                assertEquals(processors, beans.getBeanPostProcessorCount(), "a factory with fewer warns of each bean");
                for (int n = 0; n < 5; n++) assertEquals("1", get(client, url + "/pages/north"));
                get(client, url + "/file");
                while (FILES.get() == filed) Thread.sleep(1);
                opened += PAGES.get() - before;
                recorder.set(Setting.OFF);
                get(client, url + "/pages/north");
            }
        } finally {
            Recorder.install(null);
        }
        recorder.close();
        assertEquals(List.of(), trace.trouble);
        assertEquals(10, opened);
        assertEquals(
                2,
                trace.of("open", l -> l.path("kind").asText().equals("async")).size());
        assertEquals(
                opened,
                trace.made(trace.register("LogPage", "scopedTarget." + LogPage.class.getName()))
                        .size());
        assertEquals(
                10,
                trace.of("open", l -> l.path("name").asText().equals("GET /pages/{name}"))
                        .size());
    }

    private static List<String> ours(DefaultListableBeanFactory beans) {
        return beans.getBeanPostProcessors().stream()
                .map(Object::getClass)
                .filter(type -> type.getPackageName().equals("example.keenlantern.record.spring"))
                .map(Class::getSimpleName)
                .filter(name -> !name.equals("Absent"))
                .sorted()
                .toList();
    }

    @Test
    void withoutSettingsNothingIsRecorded() {
        try (ConfigurableApplicationContext context = new SpringApplicationBuilder(Wiring.class)
                .properties(Map.of("server.port", "0", "spring.main.banner-mode", "off"))
                .run()) {
            assertFalse(context.containsBean("keenLanternRequests"));
        }
    }
}
