package ingest

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store"
)

// Hub owns the streams that are being recorded. Start one with New, and end it with Close.
type Hub struct {
	store *store.Store
	set   rules.Settings
	log   *slog.Logger
	ctx   context.Context // of all runners; ends with Close
	stop  context.CancelFunc
	wg    sync.WaitGroup

	pieces *pieces
	stats  struct{ batches, bytes, lines, busy atomic.Int64 }
	ready  atomic.Bool

	closing atomic.Int64 // Unix ns of Close
	waiting atomic.Int64 // bytes of batches that are not analysed yet

	mu      sync.Mutex
	closed  bool
	runners map[string]*runner // live streams that are loaded, by name
	news    map[*Listener]struct{}
}

// maxRunners bounds how many live streams are loaded at once.
const maxRunners = 1000

// New returns a Hub on a store, whose rules go by set. It starts no goroutine until a stream is loaded.
func New(s *store.Store, set rules.Settings, log *slog.Logger) *Hub {
	ctx, stop := context.WithCancel(context.Background())
	return &Hub{
		store: s, set: set, log: log, ctx: ctx, stop: stop, runners: map[string]*runner{}, news: map[*Listener]struct{}{},
		pieces: newPieces(s),
	}
}

// Resume analyses what was accepted and not analysed when the last process ended. It returns when that is done.
func (h *Hub) Resume(ctx context.Context) error {
	list, err := h.store.Unfinished(ctx)
	if err != nil {
		return fmt.Errorf("look for unfinished streams: %w", err)
	}
	var waiting []*runner
	for _, st := range list {
		if err := ctx.Err(); err != nil {
			return err
		}
		h.log.Info("analysing again what was accepted before the last stop", "stream", st.Name, "batches", st.Batches)
		if st.Live {
			r, err := h.load(ctx, st.Name, nil)
			if err != nil {
				return err
			}
			waiting = append(waiting, r)
			continue
		}
		s, err := h.replay(ctx, st)
		if err != nil {
			return err
		}
		s.Finish()
		if err := h.keep(ctx, st.ID, st.Batches, s.Result(), s.State()); err != nil {
			return err
		}
		if err := h.summarise(ctx, st.Recording); err != nil {
			return err
		}
	}
	for _, r := range waiting {
		r.ask(ctx) // it answers when it has read its stream again
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	h.ready.Store(true)
	return nil
}

// What streams that are being recorded remember of what has ended, all together and each at least.
const (
	rememberAll  = ledger.Remembered
	rememberEach = 512
)

// share is how much of that each stream may take now.
func (h *Hub) share() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return max(rememberEach, rememberAll/max(1, len(h.runners)))
}

// Reserve makes room for so many bytes of a batch that is about to be read or analysed, and tells whether there is any;
// Unreserve gives it back. A batch that is alone always has room.
func (h *Hub) Reserve(bytes int64) bool {
	if now := h.waiting.Add(bytes); now > maxWaiting && now > bytes {
		h.waiting.Add(-bytes)
		h.stats.busy.Add(1)
		return false
	}
	return true
}
func (h *Hub) Unreserve(bytes int64) { h.waiting.Add(-bytes) }

// Stats count what was taken in since the start.
type Stats struct {
	Batches, Bytes, Lines, Busy int64
	Streams                     int // that are loaded
}

// Stats returns them as they are now.
func (h *Hub) Stats() Stats {
	h.mu.Lock()
	defer h.mu.Unlock()
	return Stats{
		Batches: h.stats.batches.Load(), Bytes: h.stats.bytes.Load(), Lines: h.stats.lines.Load(), Busy: h.stats.busy.Load(),
		Streams: len(h.runners),
	}
}

// Ready tells whether Resume has come to its end.
func (h *Hub) Ready() bool { return h.ready.Load() }

// took counts a batch that was stored.
func (h *Hub) took(lines, bytes int64) {
	h.stats.batches.Add(1)
	h.stats.lines.Add(lines)
	h.stats.bytes.Add(bytes)
}

// Close finishes what was accepted, stores what was found, and ends all goroutines.
func (h *Hub) Close() {
	h.mu.Lock()
	h.closed = true
	h.mu.Unlock()
	h.closing.Store(time.Now().UnixNano())
	h.stop()
	h.wg.Wait()
	h.mu.Lock()
	defer h.mu.Unlock()
	for l := range h.news {
		close(l.wake)
	}
	clear(h.news)
}

// Accepted is the answer to a batch.
type Accepted struct {
	Recording string `json:"recording"`
	Stream    string `json:"stream"`
	Batch     int64  `json:"batch"`
	Lines     int64  `json:"lines"`
}

// Batch is some of a live stream's lines.
type Batch struct {
	N      int64  // from 1
	Lines  []byte // plain
	Packed []byte // the same as zstd where it came so, which spares packing it; nil otherwise
	Free   func() // called once, when Lines and Packed may be used for something else; may be nil
}

func (b *Batch) free() {
	if b.Free != nil {
		b.Free()
	}
}

// PutBatch takes the next batch of a live stream. It returns once the batch is on disk. A batch that was taken before is
// answered the same and counts nothing twice.
func (h *Hub) PutBatch(ctx context.Context, stream string, b Batch) (Accepted, error) {
	if b.N < 1 {
		b.free()
		return Accepted{}, &Unusable{"batches are numbered from 1"}
	}
	var first []byte
	if b.N == 1 {
		first = b.Lines
	}
	r, err := h.load(ctx, stream, first)
	if err != nil {
		b.free()
	}
	if errors.Is(err, store.ErrNotFound) {
		return Accepted{}, &OutOfTurn{Stream: stream, Expected: 1, Got: b.N}
	}
	if err != nil {
		return Accepted{}, err
	}
	return r.put(ctx, b)
}

// unnumbered stands for the number of the next batch, of a sender that does not count.
const unnumbered = 0

// Append takes lines for a live stream from a sender that does not number its batches. It returns once they are on disk.
// The same lines again, as a sender repeats them that did not hear the answer, count nothing twice as long as they are
// among the latest.
func (h *Hub) Append(ctx context.Context, stream string, lines []byte) error {
	if len(stream) > maxStream {
		return &Unusable{fmt.Sprintf("a stream's name has at most %d bytes", maxStream)}
	}
	r, err := h.load(ctx, stream, lines)
	if err != nil {
		return err
	}
	_, err = r.put(ctx, Batch{N: unnumbered, Lines: lines})
	return err
}

// maxStream bounds a stream's name, in bytes.
const maxStream = 200

// Started returns when a live stream started by its hello, false where no hello of it has come.
func (h *Hub) Started(ctx context.Context, stream string) (time.Time, bool) {
	h.mu.Lock()
	r := h.runners[stream]
	h.mu.Unlock()
	if r == nil {
		if _, err := h.store.LiveStream(ctx, stream); err != nil {
			return time.Time{}, false
		}
		var err error
		if r, err = h.load(ctx, stream, nil); err != nil {
			return time.Time{}, false
		}
	}
	text := ""
	if i := r.info(); i != nil {
		text = i.Start
	} else if k, ok := r.ask(ctx); ok { // its first batch is being analysed
		text = k.state.Start
	}
	start, err := time.Parse(time.RFC3339, text)
	return start, err == nil
}

// load returns the runner of a live stream, begun with the lines of its first batch if it is new.
func (h *Hub) load(ctx context.Context, name string, first []byte) (*runner, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return nil, ErrClosed
	}
	if r := h.runners[name]; r != nil {
		return r, nil
	}
	if len(h.runners) >= maxRunners {
		return nil, ErrBusy
	}
	st, err := h.store.LiveStream(ctx, name)
	if errors.Is(err, store.ErrNotFound) && first != nil {
		st, err = h.beginStream(ctx, name, first)
	}
	if err != nil {
		return nil, err
	}
	rec, err := h.store.Recording(ctx, st.Recording)
	if err != nil {
		return nil, err
	}
	r := &runner{
		hub: h, stored: st, of: rec, jobs: make(chan job, queueLength), asks: make(chan chan<- known), quit: make(chan struct{}), gone: make(chan struct{}),
		log: h.log.With("stream", name, "recording", st.Recording),
	}
	h.runners[name] = r
	h.wg.Go(r.run)
	return r, nil
}

// beginStream stores a new live stream, in the recording it belongs to. The caller holds mu.
func (h *Hub) beginStream(ctx context.Context, name string, lines []byte) (store.Stream, error) {
	hello, err := helloOf(lines)
	if err != nil {
		return store.Stream{}, err
	}
	if hello.Stream != name {
		return store.Stream{}, &Unusable{fmt.Sprintf("the hello is of stream %q, and was sent to stream %q", hello.Stream, name)}
	}
	recording := ""
	for _, r := range h.runners {
		// A replica or a quick restart joins the recording that its application is writing.
		if r.of.App == hello.App && r.of.Environment == hello.Environment && r.of.Version == hello.Version && r.live() {
			recording = r.stored.Recording
		}
	}
	if recording == "" {
		if recording, err = h.addRecording(ctx, hello.App, hello.Version, hello.Environment, "live"); err != nil {
			return store.Stream{}, err
		}
	}
	id, err := h.store.AddStream(ctx, recording, name, true)
	if err != nil {
		return store.Stream{}, err
	}
	return store.Stream{ID: id, Recording: recording, Name: name, Live: true}, nil
}

func (h *Hub) addRecording(ctx context.Context, app, version, environment, source string) (string, error) {
	id := newID()
	return id, h.store.AddRecording(ctx, store.Recording{
		ID: id, App: app, Version: version, Environment: environment, Source: source,
		CreatedNS: time.Now().UnixNano(), Summary: []byte("{}"),
	})
}

// newID returns a recording's id: eight letters and digits that are hard to mistake for each other.
func newID() string {
	var b [5]byte
	rand.Read(b[:]) // never fails, see crypto/rand
	return strings.ToLower(base32.NewEncoding("ABCDEFGHJKMNPQRSTUVWXYZ234567890").EncodeToString(b[:]))
}

// result returns what was found in a recording so far, all streams together.
func (h *Hub) result(ctx context.Context, recording string) (*engine.Result, error) {
	list, err := h.store.Streams(ctx, recording)
	if err != nil {
		return nil, err
	}
	return h.together(list)
}

// together returns what was found in some streams.
func (h *Hub) together(list []store.Stream) (*engine.Result, error) {
	results := make([]*engine.Result, 0, len(list))
	for _, st := range list {
		r, err := h.streamResult(st)
		if err != nil {
			return nil, err
		}
		if r != nil {
			results = append(results, r)
		}
	}
	return engine.Merge(results), nil
}

// streamResult returns what a runner last made known, or what is stored; nil if there is neither.
func (h *Hub) streamResult(st store.Stream) (*engine.Result, error) {
	h.mu.Lock()
	run := h.runners[st.Name]
	h.mu.Unlock()
	if run != nil && st.Live {
		if now := run.latest.Load(); now != nil {
			return now, nil
		}
	}
	if st.Result == nil {
		return nil, nil
	}
	r := &engine.Result{}
	if err := json.Unmarshal(st.Result, r); err != nil {
		return nil, fmt.Errorf("read the result of stream %s: %w", st.Name, err)
	}
	return r, nil
}

// keep stores what was found in a stream, and what views answer from.
func (h *Hub) keep(ctx context.Context, stream, batches int64, r *engine.Result, s *derive.State) error {
	result, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("pack the result of stream %d: %w", stream, err)
	}
	state, err := json.Marshal(s)
	if err != nil {
		return fmt.Errorf("pack the state of stream %d: %w", stream, err)
	}
	return h.store.SetResult(ctx, stream, batches, r.Streams[0].Ended, result, state)
}
