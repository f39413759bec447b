package example.keenlantern.record;

import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.Comparator;
import java.util.List;
import java.util.Map;

/** Writes lines of a trace into memory, as UTF-8. It belongs to one thread. */
final class Line {
    private static final byte[] HEX = "0123456789abcdef".getBytes(StandardCharsets.US_ASCII);
    private static final byte[] LEAST = "-9223372036854775808".getBytes(StandardCharsets.US_ASCII);

    byte[] bytes;
    int size;

    Line(int capacity) {
        bytes = new byte[capacity];
    }

    static byte[] begins(String kind) {
        return ascii("{\"ev\":\"" + kind + "\",\"t\":");
    }

    static byte[] member(String name) {
        return ascii(",\"" + name + "\":");
    }

    private static byte[] ascii(String text) {
        return text.getBytes(StandardCharsets.US_ASCII);
    }

    void begin(byte[] begins, long t) {
        raw(begins);
        number(t);
    }

    void end() {
        room(2);
        bytes[size++] = '}';
        bytes[size++] = '\n';
    }

    void text(byte[] member, String value) {
        raw(member);
        quoted(value);
    }

    void number(byte[] member, long value) {
        raw(member);
        if (value == Event.NONE) raw("null");
        else number(value);
    }

    void real(byte[] member, double value) {
        raw(member);
        raw(Double.toString(value));
    }

    void flag(byte[] member, boolean value) {
        raw(member);
        raw(value ? "true" : "false");
    }

    void flow(byte[] member, Object value) {
        raw(member);
        if (value instanceof Long number) number(number);
        else quoted(value.toString());
    }

    void texts(byte[] member, List<String> list) {
        raw(member);
        separated(list, this::quoted);
    }

    void labels(byte[] member, Map<String, String> labels) {
        raw(member);
        // In the order of the bytes of their names.
        List<Map.Entry<String, String>> sorted = labels.entrySet().stream()
                .sorted(Comparator.comparing(e -> e.getKey().getBytes(StandardCharsets.UTF_8), Arrays::compareUnsigned))
                .toList();
        raw('{');
        boolean first = true;
        for (Map.Entry<String, String> e : sorted) {
            if (!first) raw(',');
            first = false;
            quoted(e.getKey());
            raw(':');
            quoted(e.getValue());
        }
        raw('}');
    }

    void also(byte[] member, List<Also> list) {
        raw(member);
        separated(list, one -> {
            raw("{\"service\":");
            quoted(one.service());
            optional(",\"key\":", one.key());
            raw('}');
        });
    }

    void needs(byte[] member, List<Need> list) {
        raw(member);
        separated(list, need -> {
            raw("{\"service\":");
            quoted(need.service());
            optional(",\"site\":", need.site());
            optional(",\"key\":", need.key());
            if (need.how() != null) optional(",\"how\":", need.how().word);
            if (need.all()) raw(",\"all\":true");
            if (need.optional()) raw(",\"optional\":true");
            if (need.lazy()) raw(",\"lazy\":true");
            raw('}');
        });
    }

    void with(byte[] member, List<?> list) {
        raw(member);
        separated(list, this::given);
    }

    private void given(Object given) {
        if (given == null) raw("null");
        else if (given instanceof Number id) number(id.longValue());
        else if (given instanceof List<?> several) separated(several, this::given);
        else if (given instanceof Given one) given(one);
        else throw new IllegalArgumentException("an instance is given by id or as Given, not as " + given.getClass());
    }

    private void given(Given one) {
        if (one.plain()) {
            number(one.inst());
            return;
        }
        raw("{\"inst\":");
        number(one.inst());
        optional(",\"site\":", one.site());
        optional(",\"service\":", one.service());
        optional(",\"key\":", one.key());
        if (one.via() != 0) {
            raw(",\"via\":");
            number(one.via());
        }
        if (!one.kept()) raw(",\"kept\":false");
        if (one.unknown()) raw(",\"unknown\":true");
        raw('}');
    }

    void part(byte[] member, Part part) {
        raw(member);
        if (part instanceof Part.InContainer in) {
            raw("{\"container\":");
            number(in.container());
        } else if (part instanceof Part.InModule in) {
            raw("{\"module\":");
            quoted(in.module());
        } else if (part instanceof Part.InScopes in) {
            raw("{\"scope\":");
            quoted(in.kind());
        }
        raw('}');
    }

    private void optional(String member, String value) {
        if (value == null) return;
        raw(member);
        quoted(value);
    }

    private <T> void separated(List<? extends T> list, java.util.function.Consumer<T> each) {
        raw('[');
        for (int n = 0; n < list.size(); n++) {
            if (n > 0) raw(',');
            each.accept(list.get(n));
        }
        raw(']');
    }

    void number(long value) {
        room(20);
        if (value < 0) {
            if (value == Long.MIN_VALUE) {
                raw(LEAST);
                return;
            }
            bytes[size++] = '-';
            value = -value;
        }
        int digits = 1;
        for (long rest = value; rest >= 10; rest /= 10) digits++;
        for (int at = size + digits - 1; at >= size; at--) {
            bytes[at] = (byte) ('0' + value % 10);
            value /= 10;
        }
        size += digits;
    }

    /**
     * A JSON string of a text, cut behind {@link Event#MAX_TEXT} bytes of UTF-8 on a character's edge. Half of a surrogate pair is
     * U+FFFD.
     */
    void quoted(String text) {
        int length = text.length();
        // Six bytes for a character are the most: of one that is escaped.
        room(2 + 6 * Math.min(length, Event.MAX_TEXT));
        bytes[size++] = '"';
        int left = Event.MAX_TEXT;
        for (int at = 0; at < length; at++) {
            char c = text.charAt(at);
            if (c < 0x80) {
                if (--left < 0) break;
                if (c >= 0x20 && c != '"' && c != '\\') bytes[size++] = (byte) c;
                else escaped(c);
                continue;
            }
            int code = c;
            if (Character.isSurrogate(c)) {
                boolean pair = Character.isHighSurrogate(c)
                        && at + 1 < length
                        && Character.isLowSurrogate(text.charAt(at + 1));
                code = pair ? Character.toCodePoint(c, text.charAt(++at)) : 0xFFFD;
            }
            int need = code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
            if ((left -= need) < 0) break;
            if (need == 2) bytes[size++] = (byte) (0xC0 | code >> 6);
            else {
                if (need == 3) bytes[size++] = (byte) (0xE0 | code >> 12);
                else {
                    bytes[size++] = (byte) (0xF0 | code >> 18);
                    bytes[size++] = (byte) (0x80 | code >> 12 & 0x3F);
                }
                bytes[size++] = (byte) (0x80 | code >> 6 & 0x3F);
            }
            bytes[size++] = (byte) (0x80 | code & 0x3F);
        }
        bytes[size++] = '"';
    }

    private void escaped(char c) {
        bytes[size++] = '\\';
        switch (c) {
            case '"', '\\' -> bytes[size++] = (byte) c;
            case '\n' -> bytes[size++] = 'n';
            case '\t' -> bytes[size++] = 't';
            default -> {
                bytes[size++] = 'u';
                bytes[size++] = '0';
                bytes[size++] = '0';
                bytes[size++] = HEX[c >> 4];
                bytes[size++] = HEX[c & 15];
            }
        }
    }

    private void raw(char c) {
        room(1);
        bytes[size++] = (byte) c;
    }

    private void raw(String text) {
        room(text.length());
        for (int n = 0; n < text.length(); n++) bytes[size++] = (byte) text.charAt(n);
    }

    private void raw(byte[] text) {
        room(text.length);
        System.arraycopy(text, 0, bytes, size, text.length);
        size += text.length;
    }

    private void room(int more) {
        if (size + more > bytes.length) bytes = Arrays.copyOf(bytes, Math.max(size + more, 2 * bytes.length));
    }

    /** Takes what has been written out of it. */
    byte[] take() {
        byte[] out = Arrays.copyOf(bytes, size);
        size = 0;
        return out;
    }
}
