package example.keenlantern.record;

import java.util.HashMap;
import java.util.Map;

/** Reads the few members of the service's short answers: an object's texts, numbers and flags. What is nested is passed over. */
final class Json {
    private static final int DEEPEST = 32;

    private final String text;
    private int at;

    private Json(String text) {
        this.text = text;
    }

    /**
     * Returns the members of an object: a String, Double or Boolean each; others are left out.
     *
     * @throws IllegalArgumentException where the text is no JSON object
     */
    static Map<String, Object> object(String text) {
        Json json = new Json(text);
        Map<String, Object> members = new HashMap<>();
        json.members(members, 0);
        json.space();
        if (json.at != text.length()) throw json.wrong();
        return members;
    }

    private void members(Map<String, Object> into, int depth) {
        expect('{');
        if (follows('}')) return;
        do {
            space();
            String name = string();
            expect(':');
            Object value = value(depth + 1);
            if (value != null) into.put(name, value);
        } while (follows(','));
        expect('}');
    }

    private Object value(int depth) {
        if (depth > DEEPEST) throw wrong();
        space();
        char c = peek();
        switch (c) {
            case '"':
                return string();
            case '{':
                members(new HashMap<>(), depth);
                return null;
            case '[':
                expect('[');
                if (follows(']')) return null;
                do value(depth + 1);
                while (follows(','));
                expect(']');
                return null;
            default:
                int begins = at;
                while (at < text.length() && ",]} \t\r\n".indexOf(text.charAt(at)) < 0) at++;
                String word = text.substring(begins, at);
                return switch (word) {
                    case "true" -> Boolean.TRUE;
                    case "false" -> Boolean.FALSE;
                    case "null" -> null;
                    default -> number(word);
                };
        }
    }

    private Double number(String word) {
        try {
            return Double.valueOf(word);
        } catch (NumberFormatException e) {
            throw wrong();
        }
    }

    private String string() {
        if (peek() != '"') throw wrong();
        StringBuilder out = new StringBuilder();
        for (at++; ; at++) {
            char c = peek();
            if (c == '"') {
                at++;
                return out.toString();
            }
            if (c == '\\') {
                at++;
                c = escaped(peek());
            }
            out.append(c);
        }
    }

    private char escaped(char c) {
        switch (c) {
            case 'n':
                return '\n';
            case 't':
                return '\t';
            case 'r':
                return '\r';
            case 'b':
                return '\b';
            case 'f':
                return '\f';
            case 'u':
                try {
                    char code = (char) Integer.parseInt(text.substring(at + 1, at + 5), 16);
                    at += 4;
                    return code;
                } catch (NumberFormatException | StringIndexOutOfBoundsException e) {
                    throw wrong();
                }
            default:
                return c;
        }
    }

    private boolean follows(char c) {
        space();
        if (at >= text.length() || text.charAt(at) != c) return false;
        at++;
        return true;
    }

    private void expect(char c) {
        if (!follows(c)) throw wrong();
    }

    private char peek() {
        if (at >= text.length()) throw wrong();
        return text.charAt(at);
    }

    private void space() {
        while (at < text.length() && " \t\r\n".indexOf(text.charAt(at)) >= 0) at++;
    }

    private IllegalArgumentException wrong() {
        return new IllegalArgumentException("no JSON object: it is wrong at character " + at);
    }
}
