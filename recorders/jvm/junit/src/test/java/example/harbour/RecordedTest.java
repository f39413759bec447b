package example.harbour;

import static org.junit.jupiter.api.Assertions.assertEquals;
import static org.junit.jupiter.api.Assertions.assertTrue;
import static org.junit.platform.engine.discovery.DiscoverySelectors.selectClass;

import example.keenlantern.record.Recorder;
import example.keenlantern.record.Wiring;
import example.keenlantern.record.junit.Recorded;
import java.util.List;
import java.util.stream.Collectors;
import org.junit.jupiter.api.Test;
import org.junit.platform.testkit.engine.EngineTestKit;
import org.junit.platform.testkit.engine.Event;
import org.junit.platform.testkit.engine.EventType;
import org.springframework.beans.factory.annotation.Autowired;
import org.springframework.boot.test.context.SpringBootTest;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.context.annotation.Lazy;
import org.springframework.context.annotation.Scope;
import org.springframework.test.annotation.DirtiesContext;

/** Tests that are recorded, sound ones and others, run by the real engine and checked by the real command. */
class RecordedTest {
    /** What became of some tests: "name: ok" or "name: what failed it". */
    private static List<String> run(Class<?>... tests) {
        var selectors = java.util.Arrays.stream(tests).map(t -> selectClass(t)).toList();
        System.setProperty("keenlantern.command", "../../../bin/keenlantern");
        return EngineTestKit.engine("junit-jupiter")
                .selectors(selectors.toArray(org.junit.platform.engine.discovery.ClassSelector[]::new))
                .execute()
                .allEvents()
                .filter(e -> e.getType() == EventType.FINISHED)
                .map(RecordedTest::told)
                .filter(t -> !t.startsWith("JUnit Jupiter: ok"))
                .collect(Collectors.toList());
    }

    private static String told(Event event) {
        var result = event.getRequiredPayload(org.junit.platform.engine.TestExecutionResult.class);
        return event.getTestDescriptor().getDisplayName() + ": "
                + result.getThrowable().map(Throwable::toString).orElse("ok");
    }

    static class Crew {}

    private static void wireWithACycle(Recorder recorder) {
        try (Wiring wiring = new Wiring(recorder)) {
            List<Wiring.Service<Crew>> both = new java.util.ArrayList<>();
            both.add(wiring.provide("TugCrew", Wiring.Kept.SINGLETON, get -> get.of(both.get(1))));
            both.add(wiring.provide("TugDispatcher", Wiring.Kept.SINGLETON, get -> get.of(both.get(0))));
            try {
                wiring.root().get(both.get(0));
            } catch (Wiring.CycleException e) {
                // The test itself is content.
            }
        }
    }

    static class Methods {
        @Test
        @Recorded
        void sound(Recorder recorder) {
            try (Wiring wiring = new Wiring(recorder)) {
                wiring.root().get(wiring.provide("TugCrew", Wiring.Kept.SINGLETON, get -> new Crew()));
            }
        }

        @Test
        @Recorded
        void cyclic(Recorder recorder) {
            wireWithACycle(recorder);
        }
    }

    @Test
    void aTestFailsWithWhatWasFound() {
        List<String> told = run(Methods.class);
        assertTrue(told.contains("sound(Recorder): ok"), told::toString);
        String cyclic =
                told.stream().filter(t -> t.startsWith("cyclic")).findFirst().orElseThrow();
        assertTrue(cyclic.contains("1 finding in target/keenlantern/Methods.cyclic.ndjson.gz"), cyclic);
        assertTrue(cyclic.contains("resolve/cycle"), cyclic);
        assertTrue(cyclic.contains("TugDispatcher"), cyclic);
    }

    static class Accepting {
        @Test
        @Recorded(accepted = "9k1ws0000000")
        void another(Recorder recorder) {
            wireWithACycle(recorder);
        }

        @Test
        @Recorded(accepted = "u6mr77qb5xac")
        void accepted(Recorder recorder) {
            wireWithACycle(recorder);
        }
    }

    @Test
    void whatIsAcceptedFailsNothing() {
        List<String> told = run(Accepting.class);
        String another =
                told.stream().filter(t -> t.startsWith("another")).findFirst().orElseThrow();
        assertTrue(another.contains("resolve/cycle"), another);
        assertTrue(told.contains("accepted(Recorder): ok"), told::toString);
    }

    static class Agreed {
        @Test
        @Recorded(application = "crew", contract = "src/test/resources/crew.yaml")
        void kept(Recorder recorder) {
            wireWithACycle(recorder); // which the contract accepts
        }

        @Test
        @Recorded(application = "crew", contract = "src/test/resources/crew.yaml")
        void broken(Recorder recorder) {
            try (Wiring wiring = new Wiring(recorder)) {
                wiring.root().get(wiring.provide("TugCrew", Wiring.Kept.TRANSIENT, get -> new Crew()));
            }
        }
    }

    @Test
    void aBrokenContractFailsATest() {
        List<String> told = run(Agreed.class);
        assertTrue(told.contains("kept(Recorder): ok"), told::toString);
        String broken =
                told.stream().filter(t -> t.startsWith("broken")).findFirst().orElseThrow();
        assertTrue(broken.contains("1 finding in target/keenlantern/Agreed.broken.ndjson.gz"), broken);
        assertTrue(broken.contains("contract/lifetimes"), broken);
        assertTrue(broken.contains("TugCrew is registered as transient"), broken);
    }

    static class Tides implements AutoCloseable {
        @Override
        public void close() {}
    }

    static class Roster {
        Roster(Tides tides) {}
    }

    @Configuration(proxyBeanMethods = false)
    static class Harbour {
        @Bean
        @Scope("request")
        Tides tides() {
            return new Tides();
        }

        @Bean
        @Lazy
        Roster roster(Tides tides) {
            return new Roster(tides);
        }
    }

    @Recorded(failOn = "warning")
    @SpringBootTest(
            classes = Harbour.class,
            properties = "spring.main.banner-mode=off",
            webEnvironment = SpringBootTest.WebEnvironment.MOCK)
    @DirtiesContext
    static class WithAContext {
        @Autowired
        private org.springframework.context.ApplicationContext context;

        @Test
        void asks() {
            context.getBean(Harbour.class);
        }
    }

    @Test
    void aContextIsPartOfTheRecording() {
        List<String> told = run(WithAContext.class);
        assertEquals("asks(): ok", told.get(0));
        assertTrue(told.get(1).contains("captive/declared"), told.get(1));
        assertTrue(told.get(1).contains("Roster"), told.get(1));
    }

    @Recorded(together = true)
    static class One {
        @Test
        void one(Recorder recorder) {
            wireWithACycle(recorder);
        }
    }

    @Recorded(together = true)
    static class Two {
        @Test
        void two(Recorder recorder) {
            wireWithACycle(recorder);
        }
    }

    @Test
    void severalTogetherAreCheckedAtTheEnd() {
        List<String> told = run(One.class, Two.class);
        assertTrue(told.contains("one(Recorder): ok") && told.contains("two(Recorder): ok"), told::toString);
        String last = told.get(told.size() - 1);
        assertTrue(last.startsWith("JUnit Jupiter") && last.contains("resolve/cycle"), last);
    }
}
