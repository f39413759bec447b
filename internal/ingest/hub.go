package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/meter"
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

	pieces  *pieces
	stats   struct{ batches, bytes, lines, busy, broken, stale, refreshed atomic.Int64 }
	ready   atomic.Bool
	key     string    // of what this program derives with these settings; what another one derived is derived again
	began   time.Time // what lately means goes by the time since: clocks jump
	repairs chan struct{}

	merging *semaphore.Weighted // recordings whose results are being put together
	viewing *semaphore.Weighted // answers that are being made from views

	closing atomic.Int64 // Unix ns of Close
	waiting atomic.Int64 // bytes of batches that are not analysed yet

	mu       sync.Mutex
	closed   bool
	runners  map[string]*runner     // live streams that are loaded, by name
	imports  map[string]*fileImport // files that are being read, by recording
	reading  int                    // files that are being read, those of no recording yet too
	deleting map[string]struct{}    // recordings
	repaired map[int64]struct{}     // streams that are being analysed again
	news     map[*Listener]struct{}
	versions map[string]uint64 // of recordings: how often something of one has changed
	retained retention
}

// atOnce is how many recordings are read as a whole at the same time, for each purpose.
func atOnce() int64 { return int64(max(2, runtime.GOMAXPROCS(0))) }

// maxRunners bounds how many live streams are loaded at once.
const maxRunners = 1000

// New returns a Hub on a store, whose rules go by set. It starts no goroutine until a stream is loaded.
func New(s *store.Store, set rules.Settings, log *slog.Logger) *Hub {
	ctx, stop := context.WithCancel(context.Background())
	return &Hub{
		store: s, set: set, log: log, ctx: ctx, stop: stop, pieces: newPieces(s), key: keyOf(&set), began: time.Now(), repairs: make(chan struct{}, 1),
		merging: semaphore.NewWeighted(atOnce()), viewing: semaphore.NewWeighted(atOnce()),
		runners: map[string]*runner{}, imports: map[string]*fileImport{}, deleting: map[string]struct{}{}, repaired: map[int64]struct{}{},
		news: map[*Listener]struct{}{}, versions: map[string]uint64{},
	}
}

// now returns the time since the hub began, in ns: it goes on evenly, whatever the clock does.
func (h *Hub) now() int64 { return time.Since(h.began).Nanoseconds() }

// What streams that are being recorded remember of what has ended, all together and each at least.
const (
	rememberAll  = ledger.Remembered
	rememberEach = 512
)

// share is how much of that each stream may take now. One that has ended takes nothing any more: it leaves when it is stored.
func (h *Hub) share() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	going := 0
	for _, r := range h.runners {
		if i := r.info(); i == nil || !i.Ended {
			going++
		}
	}
	return max(rememberEach, rememberAll/max(1, going))
}

// Room is memory that is held for what is being taken in, and accounted for until Free.
type Room struct {
	hub   *Hub
	bytes int64
}

// Room makes room for so many bytes, and tells whether there is any. Whoever is alone always has room.
func (h *Hub) Room(bytes int64) (*Room, bool) {
	r := &Room{hub: h}
	return r, r.Grow(bytes)
}

// Grow makes it so many bytes in all, and tells whether there is room for that. What there was stays in any case.
func (r *Room) Grow(bytes int64) bool {
	more := bytes - r.bytes
	if more <= 0 {
		return true
	}
	if now := r.hub.waiting.Add(more); now > maxWaiting && now > bytes {
		r.hub.waiting.Add(-more)
		r.hub.stats.busy.Add(1)
		return false
	}
	r.bytes = bytes
	return true
}

// Free gives it back. It may be called more than once.
func (r *Room) Free() {
	r.hub.waiting.Add(-r.bytes)
	r.bytes = 0
}

// Stats count what was taken in since the start.
type Stats struct {
	Batches, Bytes, Lines, Busy int64
	Broken                      int64 // streams whose analysis broke off
	Stale                       int64 // streams whose result was derived with another key, and is to be derived anew
	Refreshed                   int64 // streams for which that has been done or tried since the start
	Streams                     int   // that are loaded
	Imports                     int   // files that are being read
	Waiting                     int64 // bytes held for what is being taken in
}

// Stats returns them as they are now.
func (h *Hub) Stats() Stats {
	h.mu.Lock()
	defer h.mu.Unlock()
	return Stats{
		Batches: h.stats.batches.Load(), Bytes: h.stats.bytes.Load(), Lines: h.stats.lines.Load(), Busy: h.stats.busy.Load(),
		Streams: len(h.runners), Imports: h.reading, Broken: h.stats.broken.Load(),
		Stale: h.stats.stale.Load(), Refreshed: h.stats.refreshed.Load(), Waiting: h.waiting.Load(),
	}
}

// Key returns the derivation key of what this hub derives.
func (h *Hub) Key() string { return h.key }

// Context ends when the hub does.
func (h *Hub) Context() context.Context { return h.ctx }

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
	Owner  string // the id of the token it was sent with, "" if none is wanted
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
		if first = b.Lines; first == nil {
			first = []byte{} // an empty batch is told what it lacks
		}
	}
	r, err := h.load(ctx, stream, first, b.Owner)
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
func (h *Hub) Append(ctx context.Context, stream, owner string, lines []byte) error {
	if len(stream) > maxStream {
		return &Unusable{fmt.Sprintf("a stream's name has at most %d bytes", maxStream)}
	}
	r, err := h.load(ctx, stream, lines, owner)
	if err != nil {
		return err
	}
	_, err = r.put(ctx, Batch{N: unnumbered, Lines: lines, Owner: owner})
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
		if r, err = h.load(ctx, stream, nil, ""); err != nil {
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
func (h *Hub) load(ctx context.Context, name string, first []byte, owner string) (*runner, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return nil, ErrClosed
	}
	if r := h.runners[name]; r != nil {
		return r, nil
	}
	if len(h.runners) >= maxRunners {
		h.retireOne()
		return nil, ErrBusy
	}
	st, err := h.store.LiveStream(ctx, name)
	var rec store.Recording
	fresh := false
	switch {
	case errors.Is(err, store.ErrNotFound) && first != nil:
		st, rec, fresh, err = h.newStream(ctx, name, first, owner)
	case err == nil:
		rec, err = h.store.Recording(ctx, st.Recording)
	}
	if err != nil {
		return nil, err
	}
	if _, going := h.deleting[rec.ID]; going {
		return nil, ErrBusy
	}
	r := &runner{
		hub: h, stored: st, of: rec, stop: &meter.Stop{},
		jobs: make(chan job, queueLength), asks: make(chan chan<- known), quit: make(chan struct{}), retire: make(chan struct{}, 1), gone: make(chan struct{}),
		log: h.log.With("stream", name, "recording", rec.ID),
	}
	r.heard.Store(h.now() - max(0, min(time.Now().UnixNano()-st.ReceivedNS, unloadAfter.Nanoseconds())))
	if fresh {
		r.fresh.Store(true)
		r.heard.Store(h.now())
	}
	h.runners[name] = r
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
		silent.leave()
	}
}

// maxStreams is how many streams one recording has: a view holds the states of all of them at once. The next live one begins
// a recording of its own, which others join; a file with more is refused.
const maxStreams = 256

// newStream returns what will be stored of a new live stream with its first batch, and the recording it belongs to. The
// recording's row is its own where no batch of it has been stored yet. The caller holds mu.
func (h *Hub) newStream(ctx context.Context, name string, lines []byte, owner string) (store.Stream, store.Recording, bool, error) {
	hello, err := helloOf(lines)
	if err != nil {
		return store.Stream{}, store.Recording{}, false, err
	}
	if hello.Stream != name {
		return store.Stream{}, store.Recording{}, false, &Unusable{fmt.Sprintf("the hello is of stream %q, and was sent to stream %q", hello.Stream, name)}
	}
	st := store.Stream{Name: name, Live: true, Owner: owner}
	full := map[string]bool{}
	for _, r := range h.runners {
		// A replica or a quick restart joins the recording that its application is writing.
		_, going := h.deleting[r.of.ID]
		if !going && !full[r.of.ID] && r.of.App == hello.App && r.of.Environment == hello.Environment && r.of.Version == hello.Version && r.live() {
			n, err := h.streamsIn(ctx, r.of.ID)
			if err != nil {
				return store.Stream{}, store.Recording{}, false, err
			}
			if n >= maxStreams {
				full[r.of.ID] = true
				continue
			}
			st.Recording = r.of.ID
			return st, r.of, true, nil
		}
	}
	rec := newRecording(hello.App, hello.Version, hello.Environment, "live")
	st.Recording = rec.ID
	return st, rec, true, nil
}

// streamsIn returns how many streams a recording has, those that are being begun among them. One that is stored meanwhile
// may count twice. The caller holds mu.
func (h *Hub) streamsIn(ctx context.Context, recording string) (n int, err error) {
	beginning := 0
	for _, r := range h.runners {
		if r.of.ID == recording && r.fresh.Load() {
			beginning++
		}
	}
	n, err = h.store.StreamCount(ctx, recording)
	return beginning + n, err
}

func newRecording(app, version, environment, source string) store.Recording {
	return store.Recording{
		ID: ids.Random(5), App: app, Version: version, Environment: environment, Source: source,
		CreatedNS: time.Now().UnixNano(), Summary: []byte("{}"),
	}
}

// named returns the recording that a name means, and its streams.
func (h *Hub) named(ctx context.Context, name string) (rec store.Recording, list []store.Stream, err error) {
	if rec, err = h.store.Recording(ctx, name); err != nil {
		return rec, nil, err
	}
	list, err = h.store.Streams(ctx, rec.ID)
	return rec, list, err
}

// stale counts the streams whose stored result was derived with another key.
func (h *Hub) stale(list []store.Stream) (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, st := range list {
		if st.Analysed > 0 && st.DerivedBy != h.key && (!st.Live || h.runners[st.Name] == nil) {
			n++
		}
	}
	return n
}

// together returns what was found in some streams. A few are put together at once, the others wait: the result of a large
// recording takes much memory while it is read.
func (h *Hub) together(ctx context.Context, list []store.Stream) (*engine.Result, error) {
	if err := h.merging.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer h.merging.Release(1)
	var all engine.Merger
	for _, st := range list {
		r, err := h.streamResult(ctx, st)
		if err != nil {
			return nil, err
		}
		if r != nil {
			all.Add(r)
		}
	}
	return all.Result(), nil
}

// streamResult returns what a runner last made known, or what is stored; nil if there is neither. What is stored and cannot
// be read is made again meanwhile.
func (h *Hub) streamResult(ctx context.Context, st store.Stream) (*engine.Result, error) {
	run, st := h.asStored(ctx, st)
	if run != nil {
		if now := run.latest.Load(); now != nil {
			return now, nil
		}
	}
	packed, err := h.store.Result(ctx, st.ID)
	if err != nil && !errors.Is(err, store.ErrDamaged) {
		return nil, err
	}
	if err == nil && packed == nil {
		return nil, nil
	}
	r := &engine.Result{}
	if err == nil {
		if err = json.Unmarshal(packed, r); err == nil {
			return r, nil
		}
		err = fmt.Errorf("read the result of stream %s: %w", st.Name, err)
	}
	h.repair(st, err)
	return h.brokenResult(st, "", &engine.Broken{Why: "its stored result is damaged; it is being analysed again"}), nil
}

// asStored returns the runner of a stream; where it has none, the stream as it is stored now: its runner may have stored what
// it knew, and left, since the stream was read.
func (h *Hub) asStored(ctx context.Context, st store.Stream) (*runner, store.Stream) {
	if !st.Live {
		return nil, st
	}
	h.mu.Lock()
	run := h.runners[st.Name]
	h.mu.Unlock()
	if run == nil && st.Analysed < st.Batches {
		if now, err := h.store.StreamByID(ctx, st.ID); err == nil {
			st = now
		}
	}
	return run, st
}

// brokenResult is what is said of a stream of which nothing can be said.
func (h *Hub) brokenResult(st store.Stream, app string, b *engine.Broken) *engine.Result {
	r := engine.BrokenStream(h.set, b).Result()
	r.Streams[0].App, r.Streams[0].Stream = app, st.Name
	return r
}

// keep stores what was found in a stream, and what views answer from; staged where the log of its scopes was staged.
func (h *Hub) keep(ctx context.Context, stream, batches int64, r *engine.Result, s *derive.State, staged bool) error {
	result, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("pack the result of stream %d: %w", stream, err)
	}
	state, err := json.Marshal(s)
	if err != nil {
		return fmt.Errorf("pack the state of stream %d: %w", stream, err)
	}
	err = h.store.SetResult(ctx, stream, &store.Derived{
		Analysed: batches, Ended: r.Streams[0].Ended, Broken: r.Streams[0].Broken != nil, Key: h.key, Result: result, State: state, Staged: staged,
	})
	if err != nil {
		return err
	}
	n, err := h.store.Broken(ctx)
	h.stats.broken.Store(n)
	return err
}
