package ingest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// chunk is how many bytes of a file are stored as one batch.
const chunk = 256 << 10

// PutFile takes a whole trace, plain, gzip or zstd, of any length, as a recording of its own. It returns once all of it
// is stored and analysed. A file without any stream, or whose input breaks off, leaves nothing behind.
func (h *Hub) PutFile(ctx context.Context, in io.Reader) (views.Summary, error) {
	plain, err := reader.Decompress(in)
	if err != nil {
		return views.Summary{}, &Unusable{err.Error()}
	}
	defer plain.Close()
	f := &fileImport{hub: h, lines: reader.New(plain, reader.Options{})}
	f.split = &engine.Splitter{Set: h.set, Scopes: func(n int, c derive.Chunk) { f.putChunk(ctx, n, c) }}
	if err := f.run(ctx); err != nil {
		if f.recording != "" {
			err = errors.Join(err, h.store.DeleteRecording(context.WithoutCancel(ctx), f.recording))
		}
		return views.Summary{}, err
	}
	h.tell(f.recording)
	return h.Summary(ctx, f.recording)
}

// fileImport is one file on its way in.
type fileImport struct {
	hub       *Hub
	lines     *reader.Reader
	split     *engine.Splitter
	recording string
	stream    int64 // the store's id of the stream that is being read; 0 before the first hello
	begun     int   // streams
	ids       []int64
	failed    error // of what was stored while a line was analysed
	batch     store.Batch
	next      int64 // the number of the line after the last one in batch
}

func (f *fileImport) run(ctx context.Context) error {
	f.next = 1
	f.batch.FirstLine = 1
	for {
		line, err := f.lines.Next()
		if errors.Is(err, io.EOF) {
			break
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
		f.add(&line)
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
	return f.hub.summarise(ctx, f.recording)
}

// maxBeforeHello bounds what may stand before the first hello.
const maxBeforeHello = 8 << 20

// begin starts the next stream at its hello. What stood before the first one is stored with it.
func (f *fileImport) begin(ctx context.Context, hello *event.Event) error {
	if f.begun > 0 {
		if err := f.flush(ctx); err != nil {
			return err
		}
		if err := f.finish(ctx); err != nil {
			return err
		}
	} else {
		id, err := f.hub.addRecording(ctx, hello.App, hello.Version, hello.Environment, "file")
		if err != nil {
			return err
		}
		f.recording = id
	}
	f.begun++
	id, err := f.hub.store.AddStream(ctx, f.recording, hello.Stream, false)
	if err != nil {
		return err
	}
	f.stream = id
	f.ids = append(f.ids, id)
	f.batch.N = 0
	return nil
}

// add puts a line into the batch, and the empty ones before it, so that line numbers stay true.
func (f *fileImport) add(line *reader.Line) {
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
}

func (f *fileImport) flush(ctx context.Context) error {
	if len(f.batch.Body) == 0 {
		return nil
	}
	f.batch.N++
	f.batch.Lines = f.next - f.batch.FirstLine
	if err := f.hub.store.AppendBatch(ctx, f.stream, f.batch, time.Now().UnixNano()); err != nil {
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
	return f.hub.keep(ctx, f.stream, f.batch.N, s.Result(), s.State())
}

// putChunk stores a part of the log of scopes of the n-th stream.
func (f *fileImport) putChunk(ctx context.Context, n int, c derive.Chunk) {
	if f.failed == nil {
		f.failed = f.hub.store.PutChunks(ctx, f.ids[n], []store.Chunk{{N: c.Info.N, Body: c.Body}})
	}
}
