package ingest

import (
	"context"
	"errors"
	"fmt"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"keenlantern.example/internal/store"
)

// front takes batches into a log that several services share: of any stream, no matter which service works on it. What it remembers of a stream
// may have been overtaken by another service; the log finds that out, and it is read again.
type front struct {
	hub     *Hub
	shared  store.Shared
	streams *lru.Cache[string, *entrance]
}

// maxEntrances is how many streams are kept.
const maxEntrances = 4096

// entrance is where the batches of one stream come in, one after the other.
type entrance struct {
	turn chan struct{} // holds one value while the turn is taken
	in   *intake       // nil: it has to be read
}

func newFront(h *Hub, s store.Shared) *front {
	f := &front{hub: h, shared: s}
	f.streams, _ = lru.New[string, *entrance](maxEntrances) // the size is positive
	return f
}

// put stores a batch in the log.
func (f *front) put(ctx context.Context, stream string, b Batch) (Accepted, error) {
	defer b.free()
	room, ok := f.hub.Room(int64(len(b.Lines) + len(b.Packed)))
	if !ok {
		return Accepted{}, ErrBusy
	}
	defer room.Free()
	fresh := &entrance{turn: make(chan struct{}, 1)}
	e := fresh
	if have, known, _ := f.streams.PeekOrAdd(stream, fresh); known {
		e = have
	}
	f.streams.Get(stream) // it was used last
	select {
	case e.turn <- struct{}{}:
		defer func() { <-e.turn }()
	case <-ctx.Done():
		return Accepted{}, ctx.Err()
	}
	for try := 0; ; try++ {
		if e.in == nil {
			read := f.hub.catalog.LiveStream
			if try > 0 {
				read = f.shared.SureStream
			}
			in, err := f.open(ctx, stream, &b, read)
			if turn := (*OutOfTurn)(nil); errors.As(err, &turn) && try == 0 {
				continue
			}
			if err != nil {
				return Accepted{}, err
			}
			e.in = in
		}
		if owner := e.in.stored.Owner; owner != "" && b.Owner != "" && owner != b.Owner {
			return Accepted{}, store.ErrNotOwner
		}
		a, _, err := e.in.take(ctx, b.N, b.Lines, b.Packed)
		if err == nil {
			if e.in.stored.Batches == 1 {
				f.hub.tell(a.Recording)
			}
			return a, nil
		}
		e.in = nil
		var turn *OutOfTurn
		var conflict *Conflict
		overtaken := errors.Is(err, store.ErrNotNext) || errors.Is(err, store.ErrNotFound) ||
			try == 0 && (errors.As(err, &turn) || errors.As(err, &conflict))
		if !overtaken || try == 5 {
			if errors.Is(err, store.ErrNotNext) || errors.Is(err, store.ErrNotFound) {
				err = ErrBusy
			}
			return Accepted{}, err
		}
	}
}

// open reads how far a stream is, or begins one with its first batch.
func (f *front) open(ctx context.Context, stream string, b *Batch, read func(context.Context, string) (store.Stream, error)) (*intake, error) {
	h := f.hub
	st, err := read(ctx, stream)
	if errors.Is(err, store.ErrNotFound) {
		if b.N > 1 {
			return nil, &OutOfTurn{Stream: stream, Expected: 1, Got: b.N}
		}
		return f.begin(ctx, stream, b)
	}
	if err != nil {
		return nil, err
	}
	rec, err := h.recordingOf(ctx, st)
	if err != nil {
		return nil, err
	}
	return &intake{hub: h, of: rec, stored: st}, nil
}

// maxNamed bounds what a stream's hello says of its application, in bytes: it stands beside the first batch in the log.
const maxNamed = 1000

// begin begins a stream, in the recording that its application is writing or in a new one.
func (f *front) begin(ctx context.Context, stream string, b *Batch) (*intake, error) {
	hello, err := helloTo(stream, b.Lines)
	if err != nil {
		return nil, err
	}
	if len(hello.App) > maxNamed || len(hello.Version) > maxNamed || len(hello.Environment) > maxNamed {
		return nil, &Unusable{fmt.Sprintf("where services share a log, an application's name, version and environment have at most %d bytes each", maxNamed)}
	}
	rec, err := f.shared.Join(ctx, newRecording(hello.App, hello.Version, hello.Environment, "live"), maxStreams)
	if err != nil {
		return nil, err
	}
	in := &intake{hub: f.hub, of: rec, stored: store.Stream{Recording: rec.ID, Name: stream, Live: true, Owner: b.Owner}}
	in.fresh.Store(true)
	return in, nil
}

// started returns when a stream started by its hello.
func (f *front) started(ctx context.Context, stream string) (time.Time, bool) {
	st, err := f.hub.catalog.LiveStream(ctx, stream)
	if err != nil {
		return time.Time{}, false
	}
	b, err := f.hub.batches.Batch(ctx, st.ID, 1)
	if err != nil {
		return time.Time{}, false
	}
	hello, err := helloOf(b.Body)
	if err != nil {
		return time.Time{}, false
	}
	start, err := time.Parse(time.RFC3339, hello.Start)
	return start, err == nil
}
