package ingest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// chunk is how many bytes of a file are stored as one batch.
const chunk = 1 << 20

// The bounds of files.
const (
	maxImports  = 8        // that are read at once
	easyRatio   = 200      // a file may unpack to so many times its size
	easyBytes   = 16 << 20 // or to so much, whatever its size
	maxBlankRun = 64       // empty lines that are kept, to be exported again
)

// PutFile takes a whole trace, plain, gzip or zstd, of any length, as its own recording. It returns once all of it
// is stored and analysed. A file without any stream, whose input breaks off, or whose sender leaves before the answer, leaves
// nothing behind, so that it can be sent again. What it unpacks to is at most most bytes. An input that has a method Abort
// is notified when the wait ends.
func (h *Hub) PutFile(ctx context.Context, in io.Reader, most int64) (sum views.Summary, err error) {
	read := &counted{in: in}
	plain, err := reader.Decompress(read)
	if err != nil {
		return sum, &Unusable{err.Error()}
	}
	defer plain.Close()
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	f := &fileImport{hub: h, stop: &meter.Stop{}, cancel: cancel, gone: make(chan struct{})}
	defer context.AfterFunc(ctx, f.stop.Call)()
	defer context.AfterFunc(h.ctx, func() { cancel(ErrClosed) })()
	if a, ok := in.(interface{ Abort() }); ok {
		defer context.AfterFunc(ctx, a.Abort)()
	}
	if err := h.enter(f); err != nil {
		return sum, err
	}
	f.lines = reader.New(&easy{plain: plain, packed: read, most: most}, reader.Options{})
	f.split = &engine.Splitter{Set: h.set, Stop: f.stop, Scopes: func(n int, c derive.Chunk) { f.putChunk(ctx, n, c) }}
	err = f.run(ctx)
	if cause := context.Cause(ctx); err != nil && cause != nil {
		err = cause // why it was ended, rather than what that made fail
	}
	if err != nil && f.recording != "" {
		err = errors.Join(err, h.catalog.DeleteRecording(context.WithoutCancel(ctx), f.recording))
	}
	h.left(f)
	if err != nil {
		return sum, err
	}
	h.tell(f.recording)
	return h.Summary(ctx, f.recording)
}

// enter counts a file in, if there is room for one.
func (h *Hub) enter(f *fileImport) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return ErrClosed
	}
	if h.reading >= maxImports {
		h.stats.busy.Add(1)
		return ErrBusy
	}
	h.reading++
	return nil
}

func (h *Hub) left(f *fileImport) {
	h.mu.Lock()
	h.reading--
	delete(h.imports, f.recording)
	h.mu.Unlock()
	close(f.gone)
}

// counted counts the bytes of a file as it came.
type counted struct {
	in io.Reader
	n  int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.in.Read(p)
	c.n += int64(n)
	return n, err
}

// easy gives a file's unpacked bytes as long as they stand in proportion to what came: what unpacks to thousands of times
// its size is meant to take up memory and time.
type easy struct {
	plain  io.Reader
	packed *counted
	n      int64
	most   int64
}

func (e *easy) Read(p []byte) (int, error) {
	n, err := e.plain.Read(p)
	e.n += int64(n)
	switch {
	case e.n > e.most:
		return 0, &Unusable{fmt.Sprintf("it unpacks to more than %d bytes; send it in pieces", e.most)}
	case e.n > easyBytes && e.n > easyRatio*e.packed.n:
		return 0, &Unusable{fmt.Sprintf("it unpacks to more than %d times its size; send it as it is, without packing it", easyRatio)}
	}
	return n, err
}

// fileImport is one file on its way in.
type fileImport struct {
	hub       *Hub
	stop      *meter.Stop
	cancel    context.CancelCauseFunc
	gone      chan struct{} // closed when it has ended
	lines     *reader.Reader
	split     *engine.Splitter
	recording string
	stream    int64 // the store's id of the stream that is being read; 0 before the first hello
	begun     int   // streams
	ids       []store.Stream
	failed    error // of what was stored while a line was analysed
	batch     store.Batch
	next      int64 // the number of the line after the last one in batch
}

// run reads the file to its end.
func (f *fileImport) run(ctx context.Context) error {
	f.next = 1
	f.batch.FirstLine = 1
	for {
		line, err := f.lines.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err == nil {
			err = ctx.Err()
		}
		if unusable := (*Unusable)(nil); errors.As(err, &unusable) {
			return unusable
		}
		if err != nil {
			return &Unusable{fmt.Sprintf("the file breaks off behind line %d: %v", line.Number, err)}
		}
		f.split.Put(line)
		if f.failed != nil {
			return f.failed
		}
		if f.split.Streams() > f.begun {
			if err := f.begin(ctx, line.Event); err != nil {
				return err
			}
		}
		if err := f.add(ctx, &line); err != nil {
			return err
		}
		if len(f.batch.Body) >= chunk && f.stream != 0 {
			if err := f.flush(ctx); err != nil {
				return err
			}
		}
		if len(f.batch.Body) > maxBeforeHello && f.stream == 0 {
			return &Unusable{engine.ErrNoStream.Error()}
		}
	}
	if f.stream == 0 {
		return &Unusable{engine.ErrNoStream.Error()}
	}
	if err := f.flush(ctx); err != nil {
		return err
	}
	if err := f.finish(ctx); err != nil {
		return err
	}
	return f.hub.catalog.Imported(ctx, f.recording)
}

// maxBeforeHello bounds what may stand before the first hello.
const maxBeforeHello = 8 << 20

// begin starts the next stream at its hello. What stood before the first one is stored with it.
func (f *fileImport) begin(ctx context.Context, hello *event.Event) error {
	if f.begun == maxStreams {
		return &Unusable{fmt.Sprintf("the file has more than %d streams; send it in pieces, each of which begins with a hello", maxStreams)}
	}
	if f.begun > 0 {
		if err := f.flush(ctx); err != nil {
			return err
		}
		if err := f.finish(ctx); err != nil {
			return err
		}
	} else {
		if err := f.beginRecording(ctx, hello); err != nil {
			return err
		}
	}
	f.begun++
	id, err := f.hub.catalog.AddStream(ctx, f.recording, hello.Stream, false)
	if err != nil {
		return err
	}
	f.stream = id
	f.ids = append(f.ids, store.Stream{ID: id, Recording: f.recording, Name: hello.Stream})
	f.batch.N = 0
	return nil
}

// beginRecording stores the recording that the file becomes.
func (f *fileImport) beginRecording(ctx context.Context, hello *event.Event) error {
	for {
		rec := newRecording(hello.App, hello.Version, hello.Environment, "file")
		rec.Importing = true
		f.hub.mu.Lock()
		f.hub.imports[rec.ID] = f
		f.hub.mu.Unlock()
		err := f.hub.catalog.AddRecording(ctx, rec)
		if err == nil {
			f.recording = rec.ID
			return nil
		}
		f.hub.mu.Lock()
		delete(f.hub.imports, rec.ID)
		f.hub.mu.Unlock()
		if !errors.Is(err, store.ErrSpent) {
			return err
		}
	}
}

// add puts a line into the batch, and the empty ones before it, so that line numbers stay true. A long run of empty lines
// is left out: the next batch says at which line it begins.
func (f *fileImport) add(ctx context.Context, line *reader.Line) error {
	if line.Number-f.next > maxBlankRun && len(f.batch.Body) > 0 {
		if f.stream == 0 {
			return &Unusable{engine.ErrNoStream.Error()}
		}
		if err := f.flush(ctx); err != nil {
			return err
		}
	}
	if len(f.batch.Body) == 0 {
		f.batch.FirstLine, f.next = line.Number, line.Number
	}
	for ; f.next < line.Number; f.next++ {
		f.batch.Body = append(f.batch.Body, '\n')
	}
	if line.Text == nil {
		f.batch.Body = append(f.batch.Body, `"a line that was too long stood here"`...)
	} else {
		f.batch.Body = append(f.batch.Body, line.Text...)
	}
	f.batch.Body = append(f.batch.Body, '\n')
	f.next++
	return nil
}

func (f *fileImport) flush(ctx context.Context) error {
	if len(f.batch.Body) == 0 {
		return nil
	}
	f.batch.N++
	f.batch.Lines = f.next - f.batch.FirstLine
	if err := f.hub.batches.AppendBatch(ctx, f.stream, f.batch, time.Now().UnixNano()); err != nil {
		return err
	}
	f.hub.took(f.batch.Lines, int64(len(f.batch.Body)))
	f.batch.Body = f.batch.Body[:0]
	return nil
}

// finish stores what was found in the stream that has been read to its end.
func (f *fileImport) finish(ctx context.Context) error {
	s := f.split.Finish(f.begun - 1)
	if f.failed != nil {
		return f.failed
	}
	result, state := s.Result(), s.State()
	if s.Interrupted() {
		return engine.ErrInterrupted
	}
	f.hub.noteBroken(s, f.ids[f.begun-1])
	return f.hub.putDerived(ctx, f.stream, f.batch.N, result, state, false)
}

// putChunk stores a part of the log of scopes of the n-th stream.
func (f *fileImport) putChunk(ctx context.Context, n int, c derive.Chunk) {
	if f.failed == nil {
		f.failed = f.hub.results.PutChunks(ctx, f.ids[n].ID, []store.Chunk{{N: c.Info.N, Body: c.Body}})
	}
}
