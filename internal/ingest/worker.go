package ingest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/store"
)

// worker is a hub as a log that several services share sees it: it analyses the streams of the partitions that this service
// holds.
type worker struct{ hub *Hub }

// Key returns the derivation key.
func (w worker) Key() string { return w.hub.key }

// Take takes a batch that is in the log.
func (w worker) Take(ctx context.Context, stream string, b store.Batch, free func()) error {
	h := w.hub
	r, err := h.load(ctx, stream, nil, "")
	if err != nil {
		return err
	}
	var room *Room
	for ok := false; !ok; {
		if room, ok = h.Room(int64(len(b.Body))); !ok {
			select {
			case <-time.After(roomEvery):
			case <-r.gone:
				return ErrBusy
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	j := job{n: b.N, lines: b.Body, free: free, firstLine: b.FirstLine, count: b.Lines, room: room, logged: true, answer: make(chan answer, 1)}
	select {
	case r.jobs <- j:
		return nil
	case <-r.gone:
		room.Free() // and not the body, which will be given again
		return ErrBusy
	case <-ctx.Done():
		room.Free()
		return ctx.Err()
	}
}

// roomEvery is how often a waiter checks for room.
const roomEvery = 5 * time.Millisecond

// HandOver stores what is known of some streams, and releases them.
func (w worker) HandOver(ctx context.Context, of func(stream string) bool) {
	h := w.hub
	h.mu.Lock()
	var list []*runner
	for name, r := range h.runners {
		if of(name) {
			list = append(list, r)
		}
	}
	h.mu.Unlock()
	for _, r := range list {
		select {
		case r.hand <- struct{}{}:
		default:
		}
	}
	for _, r := range list {
		select {
		case <-r.gone:
		case <-ctx.Done():
			return
		}
	}
}

// Heard says that something of a recording was changed by another service.
func (w worker) Heard(recording string) { w.hub.hear(recording) }

// Doing returns the recordings of which a stream is in memory, and those of them that are being written.
func (w worker) Doing() (loaded, running []string) {
	h := w.hub
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.runners {
		if !slices.Contains(loaded, r.of.ID) {
			loaded = append(loaded, r.of.ID)
		}
		if r.live() && !slices.Contains(running, r.of.ID) {
			running = append(running, r.of.ID)
		}
	}
	return loaded, running
}

// follow analyses a batch that is in the log, and those before it that did not come by themselves.
func (r *runner) follow(ctx context.Context, j job) {
	for n := r.stored.Batches + 1; n < j.n; n++ {
		b, ok := r.fetch(ctx, n)
		if !ok {
			return // it has lost the stream, or ends
		}
		r.logged(ctx, b.N, b.Body, b.FirstLine, b.Lines)
	}
	if j.n == r.stored.Batches+1 {
		r.logged(ctx, j.n, j.lines, j.firstLine, j.count)
	}
}

// fetch reads a batch from the log, however long that takes.
func (r *runner) fetch(ctx context.Context, n int64) (store.Batch, bool) {
	for {
		b, err := r.hub.batches.Batch(ctx, r.stored.ID, n)
		if err == nil || errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrNotFound) {
			b.N = n
			return b, true
		}
		r.log.Warn("a batch cannot be read from the log yet", "batch", n, "error", err)
		if !r.patient() {
			return b, false
		}
	}
}

// patient waits a moment, and reports whether there is still something to wait for.
func (r *runner) patient() bool {
	select {
	case <-time.After(time.Second):
		return true
	case <-r.lease.Lost():
	case <-r.quit:
	case <-r.hub.ctx.Done():
	}
	return false
}

// logged analyses the next batch of the stream.
func (r *runner) logged(ctx context.Context, n int64, lines []byte, firstLine, count int64) {
	r.stored.Batches = n
	r.stored.Lines = max(r.stored.Lines, firstLine+count-1)
	r.heard.Store(r.hub.now())
	if lines == nil && r.stream.Broken() == nil {
		r.stream.Break(&engine.Broken{Why: fmt.Sprintf("batch %d cannot be read from the log; the others are kept, and can be exported", n)})
		r.hub.noteBroken(r.stream, r.stored)
	}
	r.analyse(ctx, lines, firstLine)
}
