package example.harbour;

import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectMapper;
import example.keenlantern.record.Recorder;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.function.Predicate;

/** What a recorder has recorded, for assertions. */
final class Trace {
    private final ByteArrayOutputStream out = new ByteArrayOutputStream();
    final List<Throwable> trouble = new ArrayList<>();

    Recorder recorder(String... uses) {
        try {
            return Recorder.forApplication("harbour")
                    .output(out)
                    .noExitHook()
                    .uses(Set.of(uses))
                    .problem(trouble::add)
                    .start();
        } catch (IOException e) {
            throw new UncheckedIOException(e);
        }
    }

    List<JsonNode> lines() {
        List<JsonNode> list = new ArrayList<>();
        ObjectMapper mapper = new ObjectMapper();
        try {
            for (String line : out.toString(StandardCharsets.UTF_8).split("\n")) list.add(mapper.readTree(line));
        } catch (IOException e) {
            throw new UncheckedIOException(e);
        }
        return list;
    }

    List<JsonNode> of(String kind, Predicate<JsonNode> which) {
        return lines().stream()
                .filter(l -> l.get("ev").asText().equals(kind))
                .filter(which)
                .toList();
    }

    /** The registration of the bean of a name, as it was last recorded. */
    JsonNode register(String service, String key) {
        List<JsonNode> found = of(
                "register",
                l -> simple(l.get("service").asText()).equals(service)
                        && (key == null
                                ? !l.has("key")
                                : key.equals(l.path("key").asText(null))));
        if (found.isEmpty())
            throw new AssertionError("nothing is registered as " + service + " [" + key + "]:\n"
                    + String.join(
                            "\n",
                            of("register", l -> !l.has("internal")).stream()
                                    .map(Object::toString)
                                    .toList()));
        return found.get(found.size() - 1);
    }

    /** What was made of a registration. */
    List<JsonNode> made(JsonNode register) {
        return of("make", l -> l.path("reg").asLong() == register.get("reg").asLong());
    }

    JsonNode onlyMade(String service, String key) {
        List<JsonNode> made = made(register(service, key));
        if (made.size() != 1) throw new AssertionError(service + " was made " + made.size() + " times: " + made);
        return made.get(0);
    }

    static String simple(String type) {
        return type.substring(Math.max(type.lastIndexOf('.'), type.lastIndexOf('$')) + 1);
    }

    List<String> disposals() {
        return of("dispose", l -> true).stream()
                .map(l -> simple(serviceOf(l.get("inst").asLong())) + " "
                        + l.get("state").asText())
                .toList();
    }

    private String serviceOf(long inst) {
        JsonNode make = of("make", l -> l.get("inst").asLong() == inst).get(0);
        return of("register", l -> l.get("reg").asLong() == make.get("reg").asLong())
                .get(0)
                .get("service")
                .asText();
    }
}
