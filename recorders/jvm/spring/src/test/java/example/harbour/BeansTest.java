package example.harbour;

import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertFalse;
import static org.junit.jupiter.api.Assertions.assertNotSame;
import static org.junit.jupiter.api.Assertions.assertSame;
import static org.junit.jupiter.api.Assertions.assertThrows;
import static org.junit.jupiter.api.Assertions.assertTrue;

import com.fasterxml.jackson.databind.JsonNode;
import example.keenlantern.record.Recorder;
import example.keenlantern.record.spring.SpringRecording;
import jakarta.annotation.PreDestroy;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.logging.ConsoleHandler;
import java.util.logging.Handler;
import java.util.logging.LogRecord;
import java.util.logging.Logger;
import org.aspectj.lang.annotation.Aspect;
import org.aspectj.lang.annotation.Before;
import org.junit.jupiter.api.AfterEach;
import org.junit.jupiter.api.Test;
import org.springframework.aop.support.AopUtils;
import org.springframework.beans.factory.FactoryBean;
import org.springframework.beans.factory.ObjectProvider;
import org.springframework.beans.factory.UnsatisfiedDependencyException;
import org.springframework.beans.factory.annotation.Autowired;
import org.springframework.beans.factory.annotation.Lookup;
import org.springframework.beans.factory.annotation.Qualifier;
import org.springframework.context.annotation.AnnotationConfigApplicationContext;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.EnableAspectJAutoProxy;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Primary;
import org.springframework.context.annotation.Scope;
import org.springframework.context.annotation.ScopedProxyMode;
import org.springframework.context.support.SimpleThreadScope;

/** What is recorded of beans of every kind: real contexts, and what comes out. */
class BeansTest {
    private final Trace trace = new Trace();
    private Recorder recorder = trace.recorder();

    private AnnotationConfigApplicationContext context(Class<?>... classes) {
        AnnotationConfigApplicationContext context = new AnnotationConfigApplicationContext();
        context.register(classes);
        return context;
    }

    private AnnotationConfigApplicationContext started(Class<?>... classes) {
        AnnotationConfigApplicationContext context = context(classes);
        SpringRecording.record(context, recorder);
        context.refresh();
        return context;
    }

    @AfterEach
    void nothingWentWrong() {
        recorder.close();
        assertEquals(List.of(), trace.trouble);
    }

    interface Tides {}

    static class GaugeTides implements Tides, AutoCloseable {
        @Override
        public void close() {}
    }

    static class ModelTides implements Tides {
        @PreDestroy
        void end() {}
    }

    @Configuration(proxyBeanMethods = false)
    static class Several {
        @Bean
        Tides gauge() {
            return new GaugeTides();
        }

        @Bean
        @Qualifier("table")
        Tides model() {
            return new ModelTides();
        }

        @Bean
        Board board(
                @Qualifier("table") Tides byQualifier,
                Tides gauge,
                List<Tides> all,
                Map<String, Tides> named,
                Optional<Tug> nothing,
                ObjectProvider<Tides> later) {
            return new Board();
        }
    }

    static class Board {
        int lines() {
            return 3;
        }
    }

    @Test
    void severalOfAType() {
        started(Several.class).close();
        recorder.close();
        JsonNode gauge = trace.onlyMade("Tides", "gauge");
        JsonNode model = trace.onlyMade("Tides", "table");
        JsonNode board = trace.register("Board", null);
        List<String> needs = new ArrayList<>();
        board.get("needs")
                .forEach(n -> needs.add(Trace.simple(n.get("service").asText()) + " "
                        + n.path("key").asText("-") + (n.has("all") ? " all" : "")
                        + (n.has("optional") ? " optional" : "")
                        + (n.has("lazy") ? " lazy" : "")));
        assertEquals(
                List.of(
                        "Tides table",
                        "Tides gauge", // of several, the one with the parameter's name
                        "Tides - all",
                        "Tides - all",
                        "Tug - optional",
                        "Tides - lazy"),
                needs);
        long g = gauge.get("inst").asLong();
        long m = model.get("inst").asLong();
        assertEquals(
                "[" + m + "," + g + ",[" + g + "," + m + "],[" + g + "," + m + "],null]",
                trace.onlyMade("Board", null).get("with").toString());
        assertEquals("factory", gauge.get("by").asText());
        assertEquals(Several.class.getName() + ".board", board.get("at").asText());
        assertEquals(List.of("Tides begun", "Tides done", "Tides begun", "Tides done"), trace.disposals());
    }

    @Test
    void primary() {
        started(WiringOfPrimary.class).close();
        recorder.close();
        assertTrue(trace.register("Tides", "gauge").get("primary").asBoolean());
        JsonNode need = trace.register("Board", null).get("needs").get(0);
        assertFalse(need.has("key"), "the primary one is asked for without a name");
        assertEquals(
                "primary",
                trace.of("container", l -> true).get(0).get("duplicates").asText());
    }

    static class Page implements AutoCloseable {
        @Override
        public void close() {}
    }

    abstract static class Clerk {
        @Lookup
        abstract Page page();
    }

    @Test
    void prototypesAreBuiltForWhoeverAsks() {
        AnnotationConfigApplicationContext context =
                started(WiringOfPrototypesAreBuiltForWhoeverAsks.class, Clerk.class);
        recorder.run("job", "write", () -> {
            context.getBean(Clerk.class).page();
            context.getBean(Page.class);
        });
        context.close();
        recorder.close();
        JsonNode page = trace.register("Page", null);
        assertEquals("transient", page.get("lifetime").asText());
        assertEquals("nobody", page.get("disposer").asText());
        List<JsonNode> made = trace.made(page);
        assertEquals(3, made.size());
        assertEquals(0, made.get(0).get("owner").asLong(), "built for a singleton, it lives as long");
        assertTrue(made.get(1).get("owner").asLong() > 0, "asked for in a job, it ends with it");
        assertEquals(
                2,
                trace.of("give", l -> l.get("how").asText().equals("locator")).size());
        JsonNode lookup = trace.register("Clerk", null).get("needs").get(0);
        assertTrue(lookup.get("lazy").asBoolean());
        assertEquals(
                "[" + made.get(0).get("inst") + "]",
                trace.onlyMade("Board", null).get("with").toString());
    }

    static class Filled {
        @Autowired
        private Board board;

        private Page page;

        @Autowired
        void page(Page page) {
            this.page = page;
        }
    }

    @Test
    void fieldsAndSetters() {
        started(WiringOfFieldsAndSetters.class, Filled.class).close();
        recorder.close();
        long filled = trace.onlyMade("Filled", null).get("inst").asLong();
        List<JsonNode> given = trace.of("give", l -> l.path("to").asLong() == filled);
        assertEquals(
                List.of("board", "page"),
                given.stream().map(l -> l.get("site").asText()).toList());
        for (JsonNode give : given)
            assertTrue(List.of("field", "setter").contains(give.get("how").asText()), give.toString());
        assertEquals(
                trace.onlyMade("Page", null).get("inst").asLong(),
                given.get(1).get("inst").asLong());
    }

    static class Left {
        @Autowired
        Right right;
    }

    static class Right {
        @Autowired
        Left left;
    }

    @Test
    void aCycleOfFields() {
        started(Left.class, Right.class).close();
        recorder.close();
        assertEquals(
                "proxied", trace.of("container", l -> true).get(0).get("cycles").asText());
        long left = trace.onlyMade("Left", null).get("inst").asLong();
        long right = trace.onlyMade("Right", null).get("inst").asLong();
        assertEquals(
                1,
                trace.of(
                                "give",
                                l -> l.path("to").asLong() == left
                                        && l.get("inst").asLong() == right)
                        .size());
        assertEquals(
                1,
                trace.of(
                                "give",
                                l -> l.path("to").asLong() == right
                                        && l.get("inst").asLong() == left)
                        .size());
    }

    static class Tug {
        public void go() {}
    }

    @Aspect
    static class Watch {
        @Before("execution(* example.harbour.BeansTest.Tug.*(..))")
        void watch() {}
    }

    @Configuration(proxyBeanMethods = false)
    @EnableAspectJAutoProxy
    static class Watched {
        @Bean
        Watch watch() {
            return new Watch();
        }
    }

    static class Dock {
        Dock(Tug tug) {}
    }

    @Test
    void anAspectsProxyIsTheSameInstance() {
        AnnotationConfigApplicationContext context = started(Watched.class, Tug.class, Dock.class);
        Tug tug = context.getBean(Tug.class);
        assertTrue(AopUtils.isAopProxy(tug));
        context.close();
        recorder.close();
        assertEquals(
                "[" + trace.onlyMade("Tug", null).get("inst") + "]",
                trace.onlyMade("Dock", null).get("with").toString());
    }

    static class TugYard implements FactoryBean<Tug> {
        @Override
        public Tug getObject() {
            return new Tug();
        }

        @Override
        public Class<?> getObjectType() {
            return Tug.class;
        }
    }

    @Test
    void whatAFactoryBeanBuilds() {
        started(TugYard.class, Dock.class).close();
        recorder.close();
        JsonNode tug = trace.onlyMade("Tug", null);
        assertEquals("factory", tug.get("by").asText());
        assertEquals(
                "[" + tug.get("inst") + "]",
                trace.onlyMade("Dock", null).get("with").toString());
    }

    @Test
    void scopedProxiesAndScopesOfTheApplication() {
        AnnotationConfigApplicationContext context = context(WiringOfScopedProxiesAndScopesOfTheApplication.class);
        context.getBeanFactory().registerScope("shift", new SimpleThreadScope());
        SpringRecording.record(context, recorder);
        context.refresh();
        context.getBean("tides", Tides.class).hashCode();
        context.getBean("tides", Tides.class).toString();
        context.close();
        recorder.close();
        JsonNode proxy = trace.register("Tides", null);
        JsonNode target = trace.register("Tides", "scopedTarget.tides");
        assertEquals(target.get("reg").asLong(), proxy.get("proxy").asLong());
        assertEquals("scoped", target.get("lifetime").asText());
        assertEquals(
                "[" + trace.onlyMade("Tides", null).get("inst") + "]",
                trace.onlyMade("Board", null).get("with").toString());
        JsonNode made = trace.onlyMade("Tides", "scopedTarget.tides");
        JsonNode shift =
                trace.of("open", l -> l.get("kind").asText().equals("shift")).get(0);
        assertEquals(shift.get("scope").asLong(), made.get("owner").asLong());
        assertEquals("unknown", shift.get("ends").asText(), "its end is not reported");
    }

    @Test
    void parentAndChild() {
        AnnotationConfigApplicationContext parent = started(Board.class);
        AnnotationConfigApplicationContext child = context(Dock.class, Tug.class);
        child.setParent(parent);
        SpringRecording.record(child, recorder);
        child.refresh();
        child.close();
        parent.close();
        recorder.close();
        List<JsonNode> containers = trace.of("container", l -> true);
        assertEquals(2, containers.size());
        assertEquals(1, containers.get(1).get("in").asLong());
        assertEquals(2, trace.register("Dock", null).get("container").asLong());
        assertEquals(
                List.of(1L, 0L),
                trace.of("close", l -> true).stream()
                        .map(l -> l.get("scope").asLong())
                        .toList());
    }

    static class Crew {
        Crew(Dispatcher dispatcher) {}
    }

    static class Dispatcher {
        Dispatcher(Crew crew) {}
    }

    private JsonNode failure(Class<?>... classes) {
        AnnotationConfigApplicationContext context = context(classes);
        SpringRecording.recordAll(context, recorder);
        assertThrows(UnsatisfiedDependencyException.class, context::refresh);
        List<JsonNode> failed = trace.of("fail", l -> true);
        assertEquals(1, failed.size(), failed::toString);
        assertEquals(
                "start failed", trace.of("bye", l -> true).get(0).get("why").asText());
        return failed.get(0);
    }

    private static List<String> path(JsonNode fail) {
        List<String> names = new ArrayList<>();
        fail.get("path").forEach(n -> names.add(Trace.simple(n.asText())));
        return names;
    }

    @Test
    void aCycleKeepsItFromStarting() {
        JsonNode fail = failure(Crew.class, Dispatcher.class);
        assertEquals("cycle", fail.get("why").asText());
        assertEquals(List.of("Crew", "Dispatcher", "Crew"), path(fail));
    }

    @Test
    void somethingMissingKeepsItFromStarting() {
        JsonNode fail = failure(YardOfSomethingMissingKeepsItFromStarting.class, Dock.class);
        assertEquals("missing", fail.get("why").asText());
        assertEquals("Tug", Trace.simple(fail.get("service").asText()));
        assertEquals(
                List.of("Dock", "Tug"),
                path(fail).subList(path(fail).size() - 2, path(fail).size()));
    }

    @Test
    void severalKeepItFromStarting() {
        JsonNode fail = failure(YardOfSeveralKeepItFromStarting.class, GaugeTides.class, ModelTides.class);
        assertEquals("ambiguous", fail.get("why").asText());
        assertEquals("Tides", Trace.simple(fail.get("service").asText()));
    }

    @Test
    void whatIsContentWithNothingIsToldAsOptional() {
        started(YardOfWhatIsContentWithNothingIsToldAsOptional.class, Tug.class, Board.class)
                .close();
        recorder.close();
        List<JsonNode> failed = trace.of("fail", l -> true);
        assertEquals(1, failed.size(), failed::toString);
        assertEquals("nort", failed.get(0).get("key").asText());
        assertTrue(failed.get(0).get("optional").asBoolean());
    }

    @Test
    void whatTheContainerItselfAnswersIsNotMissing() {
        started(YardOfWhatTheContainerItselfAnswersIsNotMissing.class).close();
        recorder.close();
        assertEquals(List.of(), trace.of("fail", l -> true));
    }

    @Test
    void callsAreSeenThroughAStandIn() {
        recorder.close();
        Trace own = new Trace();
        recorder = own.recorder("Tides", "Board");
        AnnotationConfigApplicationContext context = started(Several.class);
        Tides tides = context.getBean("gauge", Tides.class);
        assertFalse(tides instanceof GaugeTides, "something stands in for it");
        assertSame(tides, context.getBean("gauge"));
        assertEquals(tides, context.getBean("gauge", Tides.class));
        assertEquals(
                1,
                context.getBeansOfType(Tides.class).values().stream()
                        .filter(tides::equals)
                        .count());
        Board board = context.getBean(Board.class);
        assertNotSame(Board.class, board.getClass(), "a proxy of the container's");
        board.lines();
        context.close();
        recorder.close();
        assertEquals(List.of(), own.trouble);
        assertTrue(own.register("Tides", "gauge").get("sees").toString().contains("use"));
        assertTrue(own.register("Board", null).get("sees").toString().contains("use"));
        long inst = own.onlyMade("Board", null).get("inst").asLong();
        assertEquals(1, own.of("use", l -> l.get("inst").asLong() == inst).size());
        assertEquals(List.of("Tides begun", "Tides done", "Tides begun", "Tides done"), own.disposals());
    }

    static class Pilot {
        int rank() {
            return 1;
        }
    }

    static final class SeniorPilot extends Pilot {}

    @Configuration(proxyBeanMethods = false)
    static class WiringOfCallsThatCannotBeSeen {
        @Bean
        @Scope("prototype")
        static Pilot pilot() {
            return new SeniorPilot();
        }
    }

    @Test
    void callsThatCannotBeSeenAreNotClaimed() {
        recorder.close();
        Trace own = new Trace();
        recorder = own.recorder("Pilot");
        AnnotationConfigApplicationContext context = started(WiringOfCallsThatCannotBeSeen.class);
        for (int n = 0; n < 3; n++)
            assertSame(SeniorPilot.class, context.getBean(Pilot.class).getClass());
        context.close();
        recorder.close();
        assertEquals(List.of(), own.trouble);
        List<JsonNode> registered =
                own.of("register", l -> l.get("service").asText().endsWith("$Pilot"));
        assertEquals(
                2,
                registered.size(),
                "the definition promised a class that can be watched, and that is taken back once");
        assertTrue(registered.get(0).get("sees").toString().contains("use"));
        assertFalse(registered.get(1).has("sees"));
    }

    @Test
    void aChildContextThatIsNotRecordedIsNamed() {
        AnnotationConfigApplicationContext context = started(Several.class);
        List<String> log = new ArrayList<>();
        Logger logger = Logger.getLogger(SpringRecording.class.getName());
        Handler handler = new ConsoleHandler() {
            @Override
            public void publish(LogRecord line) {
                log.add(line.getMessage());
            }
        };
        logger.addHandler(handler);
        try {
            for (String id : List.of("annex", "shed")) {
                AnnotationConfigApplicationContext child = new AnnotationConfigApplicationContext();
                child.setId(id);
                child.setParent(context);
                child.refresh();
                child.close();
            }
        } finally {
            logger.removeHandler(handler);
        }
        context.close();
        assertEquals(1, log.size(), log::toString);
        assertTrue(log.get(0).startsWith("the context 'annex' inside of "), log.get(0));
    }

    @Test
    void nothingIsBuiltForTheSakeOfRecording() {
        started(WiringOfNothingIsBuiltForTheSakeOfRecording.class).close();
        recorder.close();
        assertEquals(List.of(), trace.made(trace.register("Tug", null)));
    }

    @Configuration(proxyBeanMethods = false)
    static class WiringOfPrimary {
        @Bean
        @Primary
        static Tides gauge() {
            return new GaugeTides();
        }

        @Bean
        static Tides model() {
            return new ModelTides();
        }

        @Bean
        static Board board(Tides tides) {
            return new Board();
        }
    }

    @Configuration(proxyBeanMethods = false)
    static class WiringOfPrototypesAreBuiltForWhoeverAsks {
        @Bean
        @Scope("prototype")
        static Page page() {
            return new Page();
        }

        @Bean
        static Board board(Page page, ObjectProvider<Page> more) {
            return new Board();
        }
    }

    @Configuration(proxyBeanMethods = false)
    static class WiringOfFieldsAndSetters {
        @Bean
        static Board board() {
            return new Board();
        }

        @Bean
        @Scope("prototype")
        static Page page() {
            return new Page();
        }
    }

    @Configuration(proxyBeanMethods = false)
    static class WiringOfScopedProxiesAndScopesOfTheApplication {
        @Bean
        @Scope(value = "shift", proxyMode = ScopedProxyMode.INTERFACES)
        static Tides tides() {
            return new GaugeTides();
        }

        @Bean
        static Board board(Tides tides) {
            return new Board();
        }
    }

    static class YardOfSomethingMissingKeepsItFromStarting {
        YardOfSomethingMissingKeepsItFromStarting(Dock dock) {}
    }

    static class YardOfSeveralKeepItFromStarting {
        YardOfSeveralKeepItFromStarting(Tides tides) {}
    }

    static class YardOfWhatIsContentWithNothingIsToldAsOptional {
        YardOfWhatIsContentWithNothingIsToldAsOptional(
                @Qualifier("nort") ObjectProvider<Tug> tug, ObjectProvider<Board> board) {
            tug.getIfAvailable();
            board.getIfAvailable();
        }
    }

    static class YardOfWhatTheContainerItselfAnswersIsNotMissing {
        YardOfWhatTheContainerItselfAnswersIsNotMissing(
                ObjectProvider<org.springframework.context.ApplicationContext> context) {
            context.getIfAvailable();
        }
    }

    @Configuration(proxyBeanMethods = false)
    static class WiringOfNothingIsBuiltForTheSakeOfRecording {
        @Bean
        @Lazy
        static Tug tug() {
            throw new AssertionError("it was not requested");
        }
    }
}
