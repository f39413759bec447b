package example.keenlantern.record;

import java.time.Duration;

/**
 * Whether and how a recorder records.
 *
 * @param on whether it does
 * @param share the part of the scopes that is recorded, over 0 up to 1; 0: all of them
 * @param time recording ends after so long; zero: it does not
 * @param bytes recording ends after so many bytes of lines; 0: it does not
 */
public record Setting(boolean on, double share, Duration time, long bytes) {
    /** Nothing is recorded. */
    public static final Setting OFF = new Setting(false, 0, Duration.ZERO, 0);

    /** Everything is recorded. */
    public static final Setting ON = new Setting(true, 0, Duration.ZERO, 0);

    /** Checks what is set. */
    public Setting {
        if (!(share >= 0 && share <= 1)) throw new IllegalArgumentException("set recording: share is from 0 to 1");
        if (time.isNegative() || bytes < 0)
            throw new IllegalArgumentException("set recording: neither time nor bytes is below 0");
    }

    /** The same for a part of the scopes. */
    public Setting share(double part) {
        return new Setting(on, part, time, bytes);
    }

    /** The same for a time. */
    public Setting time(Duration most) {
        return new Setting(on, share, most, bytes);
    }

    /** The same up to a size. */
    public Setting bytes(long most) {
        return new Setting(on, share, time, most);
    }
}
