package ingest

import (
	"context"
	"errors"
	"fmt"
	"time"

	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// membership is how many streams a recording has of which one is loaded, those that are being begun among them.
type membership struct{ streams, loaded int }

// load returns the runner of a live stream, begun with the lines of its first batch if it is new. While a stream is being
// loaded, or its runner is leaving, other callers wait; the hub's lock is not held meanwhile.
func (h *Hub) load(ctx context.Context, name string, first []byte, owner string) (*runner, error) {
	for {
		r, wait, err := h.loadedOrClaimed(name)
		if err != nil || r != nil {
			return r, err
		}
		if wait == nil {
			return h.open(ctx, name, first, owner)
		}
		select {
		case <-wait:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// loadedOrClaimed returns the runner of a stream, or what to wait for before asking again; neither where the caller has it to open.
func (h *Hub) loadedOrClaimed(name string) (*runner, <-chan struct{}, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	r, claimed := h.runners[name], h.opening[name]
	switch {
	case h.closed:
		return nil, nil, ErrClosed
	case r != nil && r.leaving:
		return nil, r.gone, nil
	case r != nil:
		return r, nil, nil
	case claimed != nil:
		return nil, claimed, nil
	case len(h.runners)+len(h.opening) >= maxRunners:
		h.retireOne()
		return nil, nil, ErrBusy
	}
	h.opening[name] = make(chan struct{})
	return nil, nil, nil
}

// open loads a stream that the caller has claimed, and releases the claim.
func (h *Hub) open(ctx context.Context, name string, first []byte, owner string) (*runner, error) {
	var r *runner
	lease, err := h.leases.Hold(ctx, name)
	if errors.Is(err, store.ErrHeld) {
		err = ErrBusy
	}
	for err == nil && r == nil {
		r, err = h.tryOpen(ctx, lease, name, first, owner)
	}
	if err != nil && lease != nil {
		lease.Release()
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	close(h.opening[name])
	delete(h.opening, name)
	return r, err
}

// tryOpen reads what is stored of a stream and makes its runner. It returns nil without an error where a recording was
// deleted meanwhile, so that what was read may be of one that is gone.
func (h *Hub) tryOpen(ctx context.Context, lease store.Lease, name string, first []byte, owner string) (*runner, error) {
	h.mu.Lock()
	deletions := h.deletions
	h.mu.Unlock()
	st, err := h.catalog.LiveStream(ctx, name)
	if errors.Is(err, store.ErrNotFound) && first != nil {
		return h.beginStream(name, first, owner, lease)
	}
	if err != nil {
		return nil, err
	}
	rec, err := h.recordingOf(ctx, st)
	if err != nil {
		return nil, err
	}
	streams, err := h.catalog.StreamCount(ctx, rec.ID)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.deletions != deletions {
		return nil, nil
	}
	return h.start(st, rec, streams, false, lease)
}

// recordingOf returns a stream's recording; ErrBusy where it is being deleted.
func (h *Hub) recordingOf(ctx context.Context, st store.Stream) (store.Recording, error) {
	rec, err := h.catalog.Recording(ctx, st.Recording)
	if errors.Is(err, store.ErrNotFound) {
		err = ErrBusy
	}
	return rec, err
}

// helloTo returns the hello with which the first batch of a stream starts, which has to be of that stream.
func helloTo(stream string, lines []byte) (event.Event, error) {
	hello, err := helloOf(lines)
	if err == nil && hello.Stream != stream {
		err = &Unusable{fmt.Sprintf("the hello is of stream %q, and was sent to stream %q", hello.Stream, stream)}
	}
	return hello, err
}

// start has a runner work on a stream of a recording that has so many. The caller holds mu.
func (h *Hub) start(st store.Stream, rec store.Recording, streams int, fresh bool, lease store.Lease) (*runner, error) {
	if h.closed {
		return nil, ErrClosed
	}
	if _, going := h.deleting[rec.ID]; going {
		return nil, ErrBusy
	}
	r := &runner{
		intake: intake{hub: h, stored: st, of: rec}, lease: lease, stop: &meter.Stop{},
		jobs: make(chan job, queueLength), asks: make(chan chan<- snapshot), quit: make(chan struct{}), retire: make(chan chan struct{}, 1), hand: make(chan struct{}, 1), gone: make(chan struct{}),
		log: h.log.With("stream", st.Name, "recording", rec.ID),
	}
	r.heard.Store(h.now() - max(0, min(time.Now().UnixNano()-st.ReceivedNS, unloadAfter.Nanoseconds())))
	if fresh {
		r.fresh.Store(true)
		r.heard.Store(h.now())
	}
	m := h.members[rec.ID]
	if m == nil {
		m = &membership{streams: streams}
		h.members[rec.ID] = m
	}
	m.loaded++
	h.runners[st.Name] = r
	h.wg.Go(r.run)
	return r, nil
}

// retireOne has the stream that has been silent longest leave memory, if any has been silent for a while. The caller holds
// mu.
func (h *Hub) retireOne() {
	var silent *runner
	for _, r := range h.runners {
		if !r.live() && (silent == nil || r.heard.Load() < silent.heard.Load()) {
			silent = r
		}
	}
	if silent != nil {
		silent.mayLeave()
	}
}

// maxStreams is how many streams one recording has: a view holds the states of all of them at once. The next live one begins
// its own recording, which others join; a file with more is refused.
const maxStreams = 256

// beginStream makes the runner of a new live stream, whose first batch will be stored with its row. It joins the recording that its
// application is writing, as a replica or a quick restart does, or begins one.
func (h *Hub) beginStream(name string, lines []byte, owner string, lease store.Lease) (*runner, error) {
	hello, err := helloTo(name, lines)
	if err != nil {
		return nil, err
	}
	st := store.Stream{Name: name, Live: true, Owner: owner}
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.runners {
		m := h.members[r.of.ID]
		_, going := h.deleting[r.of.ID]
		if going || m.streams >= maxStreams || r.of.App != hello.App || r.of.Environment != hello.Environment || r.of.Version != hello.Version || !r.live() {
			continue
		}
		st.Recording = r.of.ID
		m.streams++
		return h.start(st, r.of, m.streams, true, lease)
	}
	rec := newRecording(hello.App, hello.Version, hello.Environment, "live")
	st.Recording = rec.ID
	return h.start(st, rec, 1, true, lease)
}

// leaves notes that a runner is about to end, unless a batch is waiting for it, and reports whether it is.
func (h *Hub) leaves(r *runner, waiting bool) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if !waiting && len(r.jobs) > 0 {
		return false
	}
	r.leaving = true
	return true
}

// gone takes a runner that has ended out of the hub, and gives its stream's lease back.
func (h *Hub) gone(r *runner) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.runners, r.stored.Name)
	m := h.members[r.of.ID]
	if r.fresh.Load() {
		m.streams-- // it has not become one
	}
	if m.loaded--; m.loaded == 0 {
		delete(h.members, r.of.ID)
	}
	r.lease.Release()
	close(r.gone)
}
