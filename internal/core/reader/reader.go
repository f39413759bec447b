package reader

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"

	"keenlantern.example/record/event"
)

// DefaultMaxLine is the longest line in bytes that is read unless Options sets another. A registration with a
// thousand needs is a tenth of that.
const DefaultMaxLine = 1 << 20

// maxZstdWindow bounds what a zstd frame may ask for before its first byte comes out.
const maxZstdWindow = 32 << 20

// Options change how a Reader reads; the zero value is the default.
type Options struct {
	MaxLine   int   // bytes, its newline not counted; 0 is DefaultMaxLine
	FirstLine int64 // the number of the first line; 0 is 1
}

// Line is what one line held: an Event, or the reason why it was Refused, or neither for an event of an Unknown kind.
type Line struct {
	Number  int64
	Text    []byte // as it came, without its newline; nil for one that was too long; overwritten by the next call
	Event   *event.Event
	Refused string
	Unknown bool
}

// Reader reads lines. It is not safe for use by several goroutines.
type Reader struct {
	in      io.Reader
	room    []byte // for what is read from in
	buf     []byte // what has been read and not yet handed out is buf[start:end]
	start   int
	end     int
	maxLine int
	line    int64 // lines seen, empty ones too
	eof     bool
	failed  error
	parser  Parser
}

// New returns a Reader of plain lines.
func New(in io.Reader, opts Options) *Reader {
	r := &Reader{in: in, maxLine: opts.MaxLine}
	if r.maxLine <= 0 {
		r.maxLine = DefaultMaxLine
	}
	if opts.FirstLine > 1 {
		r.line = opts.FirstLine - 1
	}
	r.room = make([]byte, min(64<<10, r.maxLine+2))
	r.buf = r.room
	return r
}

// Reset makes r read another input as New does, with the room it has and the names it knows.
func (r *Reader) Reset(in io.Reader, firstLine int64) {
	r.in, r.buf, r.start, r.end, r.line, r.eof, r.failed = in, r.room, 0, 0, max(0, firstLine-1), false, nil
}

// ResetTo is Reset for lines that are in memory, which are read where they are. They must not change until all are read, or the
// next reset.
func (r *Reader) ResetTo(lines []byte, firstLine int64) {
	r.Reset(nil, firstLine)
	r.buf, r.end, r.eof, r.failed = lines[:len(lines):len(lines)], len(lines), true, io.EOF
}

// Decompress returns in as plain bytes: gzip and zstd are known by their first bytes, anything else is passed on. The
// caller closes what it gets.
func Decompress(in io.Reader) (io.ReadCloser, error) {
	b := bufio.NewReaderSize(in, 32<<10)
	head, err := b.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("read the first bytes: %w", err)
	}
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, fmt.Errorf("open gzip: %w", err)
		}
		return z, nil
	case bytes.Equal(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderMaxWindow(maxZstdWindow), zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, fmt.Errorf("open zstd: %w", err)
		}
		return z.IOReadCloser(), nil
	}
	return io.NopCloser(b), nil
}

// Next returns the next line that is not empty. At the end it returns io.EOF; another error is the input's own (a
// broken compressed stream, say) and comes once everything before it has been handed out.
func (r *Reader) Next() (Line, error) {
	var line Line
	err := r.NextInto(&line, &r.parser.room)
	return line, err
}

// NextInto is Next with the caller's own room for the line and its event, for who reads ahead.
func (r *Reader) NextInto(line *Line, ev *event.Event) error {
	for {
		text, tooLong, err := r.nextText()
		if err != nil {
			*line = Line{Number: r.line}
			return err
		}
		r.line++
		if tooLong {
			*line = Line{Number: r.line, Refused: fmt.Sprintf("longer than %d bytes", r.maxLine)}
			return nil
		}
		if r.line == 1 {
			text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
		}
		if (len(text) == 0 || text[0] <= ' ') && blank(text) {
			continue
		}
		line.Number, line.Text = r.line, text
		line.Event, line.Refused, line.Unknown = r.parser.parse(text, text[:cap(text)], ev)
		ev.Line = r.line
		return nil
	}
}

func blank(text []byte) bool {
	for _, b := range text {
		if b != ' ' && b != '\t' && b != '\r' {
			return false
		}
	}
	return true
}

// nextText returns the next line without its newline. A line over the bound is passed over, piece by piece.
func (r *Reader) nextText() (text []byte, tooLong bool, err error) {
	scanned := r.start
	for {
		if i := bytes.IndexByte(r.buf[scanned:r.end], '\n'); i >= 0 {
			text = r.buf[r.start : scanned+i]
			r.start = scanned + i + 1
			return text, tooLong || len(text) > r.maxLine, nil
		}
		if r.end-r.start > r.maxLine {
			tooLong = true
			r.start = r.end
		}
		scanned = r.end
		if r.eof {
			if r.start == r.end && !tooLong {
				return nil, false, r.failed
			}
			text = r.buf[r.start:r.end]
			r.start = r.end
			return text, tooLong, nil
		}
		scanned -= r.fill()
	}
}

// fill reads more, making room first, and returns by how many bytes what was held moved down.
func (r *Reader) fill() (moved int) {
	if r.start > 0 && (r.start == r.end || r.end == len(r.buf)) {
		copy(r.buf, r.buf[r.start:r.end])
		moved = r.start
		r.end -= moved
		r.start = 0
	}
	if r.end == len(r.buf) {
		bigger := make([]byte, min(2*len(r.buf), r.maxLine+2))
		copy(bigger, r.buf[:r.end])
		r.buf, r.room = bigger, bigger
	}
	for range 100 {
		n, err := r.in.Read(r.buf[r.end:])
		r.end += n
		if err != nil {
			r.eof, r.failed = true, err
			return moved
		}
		if n > 0 {
			return moved
		}
	}
	r.eof, r.failed = true, io.ErrNoProgress
	return moved
}
