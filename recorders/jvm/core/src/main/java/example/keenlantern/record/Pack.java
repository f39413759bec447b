package example.keenlantern.record;

import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.OutputStream;
import java.io.UncheckedIOException;
import java.util.zip.Deflater;
import java.util.zip.GZIPOutputStream;

/**
 * A batch that is being made. It is compressed as lines come, a little at a time: all at once would take a processor from the
 * application for some milliseconds.
 */
final class Pack {
    static final int SLICE = 16 << 10; // bytes of lines that are compressed at a time

    private final boolean compress;
    private final ByteArrayOutputStream out = new ByteArrayOutputStream(32 << 10);
    private OutputStream into;
    private int size;

    Pack(boolean compress) {
        this.compress = compress;
        into = begin();
    }

    private OutputStream begin() {
        try {
            return compress ? new FastGzip(out) : out;
        } catch (IOException e) {
            throw new UncheckedIOException(e); // memory fails otherwise
        }
    }

    /** Bytes of lines that are in it. */
    int size() {
        return size;
    }

    /** Takes what has been written. */
    void add(Line lines) {
        try {
            into.write(lines.bytes, 0, lines.size);
        } catch (IOException e) {
            throw new UncheckedIOException(e);
        }
        size += lines.size;
        lines.size = 0;
    }

    /** Returns the batch, and begins another one. */
    byte[] take() {
        try {
            into.close();
        } catch (IOException e) {
            throw new UncheckedIOException(e);
        }
        byte[] packed = out.toByteArray();
        out.reset();
        into = begin();
        size = 0;
        return packed;
    }

    /** Lines are much alike: a higher level takes several times as long and saves little. */
    static final class FastGzip extends GZIPOutputStream {
        FastGzip(OutputStream to) throws IOException {
            super(to, 8192);
            def.setLevel(Deflater.BEST_SPEED);
        }
    }
}
