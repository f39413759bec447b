package example.keenlantern.record;

import static org.junit.jupiter.api.Assertions.assertEquals;

import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectMapper;
import java.io.IOException;
import java.lang.reflect.Field;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Stream;
import java.util.stream.StreamSupport;
import org.junit.jupiter.api.Assumptions;
import org.junit.jupiter.api.DynamicTest;
import org.junit.jupiter.api.TestFactory;

/** Holds the line writer to the vectors that are the same for every language: calls in, lines out, byte for byte. */
class LineTest {
    private static final Path VECTORS = Path.of("../../../testdata/recorder/lines.json");

    @TestFactory
    Stream<DynamicTest> vectors() throws IOException {
        JsonNode all = new ObjectMapper().readTree(VECTORS.toFile());
        return StreamSupport.stream(all.spliterator(), false)
                .map(v -> DynamicTest.dynamicTest(v.get("name").asText(), () -> holds(v)));
    }

    private static void holds(JsonNode vector) throws ReflectiveOperationException {
        Map<String, String> texts = new HashMap<>();
        for (var text : vector.path("texts").properties()) {
            Assumptions.assumeFalse(text.getValue().has("bytes"), "a String cannot hold bytes that are no text");
            texts.put(text.getKey(), textOf(text.getValue()));
        }
        JsonNode call = vector.get("event");
        String kind = call.get("ev").asText();
        Class<?> type =
                Class.forName(Event.class.getName() + "$" + Character.toUpperCase(kind.charAt(0)) + kind.substring(1));
        Event event = (Event) type.getDeclaredConstructor().newInstance();
        for (var member : call.properties()) {
            if (List.of("ev", "t", "format").contains(member.getKey())) continue;
            Field field = type.getDeclaredField(nameOf(member.getKey()));
            field.set(event, valueOf(field, member.getValue()));
        }
        for (var text : texts.entrySet()) type.getDeclaredField(text.getKey()).set(event, text.getValue());
        Line line = new Line(4);
        event.write(line, call.get("t").asLong());
        assertEquals(vector.get("line").asText(), new String(line.take(), StandardCharsets.UTF_8));
    }

    // A member's field: the word behind an underscore begins with a capital, and "for" is a word of Java's.
    private static String nameOf(String member) {
        if (member.equals("for")) return "forReg";
        int at = member.indexOf('_');
        return at < 0
                ? member
                : member.substring(0, at) + Character.toUpperCase(member.charAt(at + 1)) + member.substring(at + 2);
    }

    private static String textOf(JsonNode text) {
        if (text.has("repeat"))
            return text.get("repeat").asText().repeat(text.get("times").asInt())
                    + text.path("after").asText();
        StringBuilder out = new StringBuilder();
        text.get("utf16").forEach(unit -> out.append((char) unit.asInt()));
        return out.toString();
    }

    private static Object valueOf(Field field, JsonNode value) {
        Class<?> type = field.getType();
        if (value.isNull()) return Event.NONE;
        if (type == long.class) return value.asLong();
        if (type == Boolean.class) return value.asBoolean();
        if (type == String.class) return value.asText();
        if (type == Object.class) return value.isTextual() ? value.asText() : (Object) value.asLong();
        if (type.isEnum()) return word(type, value.asText());
        if (type == Map.class) {
            Map<String, String> labels = new HashMap<>();
            value.properties().forEach(e -> labels.put(e.getKey(), e.getValue().asText()));
            return labels;
        }
        if (type == Part.class) {
            if (value.has("container"))
                return new Part.InContainer(value.get("container").asLong());
            return value.has("module")
                    ? new Part.InModule(value.get("module").asText())
                    : new Part.InScopes(value.get("scope").asText());
        }
        List<Object> list = new ArrayList<>();
        for (JsonNode one : value) {
            list.add(
                    switch (field.getName()) {
                        case "also" -> new Also(one.get("service").asText(), text(one, "key"));
                        case "needs" -> need(one);
                        case "with" -> given(one);
                        default -> one.asText();
                    });
        }
        return list;
    }

    private static Object word(Class<?> type, String word) {
        for (Object one : type.getEnumConstants())
            if (one.toString().replace('_', '-').equalsIgnoreCase(word)) return one;
        throw new AssertionError(type + " has no " + word);
    }

    private static String text(JsonNode of, String member) {
        return of.has(member) ? of.get(member).asText() : null;
    }

    private static Need need(JsonNode of) {
        String how = text(of, "how");
        return new Need(
                of.get("service").asText(),
                text(of, "site"),
                text(of, "key"),
                how == null ? null : (Event.How) word(Event.How.class, how),
                of.path("all").asBoolean(),
                of.path("optional").asBoolean(),
                of.path("lazy").asBoolean());
    }

    private static Object given(JsonNode of) {
        if (of.isNull()) return null;
        if (of.isNumber()) return of.asLong();
        if (of.isArray()) {
            List<Object> list = new ArrayList<>();
            of.forEach(one -> list.add(given(one)));
            return list;
        }
        return new Given(
                of.path("inst").asLong(),
                text(of, "site"),
                text(of, "service"),
                text(of, "key"),
                of.path("via").asLong(),
                of.path("kept").asBoolean(true),
                of.path("unknown").asBoolean());
    }
}
