package ingest

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/semaphore"
	"golang.org/x/sync/singleflight"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store"
)

// Hub owns the streams that are being recorded. Start one with New, and end it with Close.
type Hub struct {
	batches store.Log
	catalog store.Catalog
	results store.Results
	leases  store.Leases
	set     rules.Settings
	shared  store.Shared                       // nil: this process alone works on the store
	front   *front                             // takes batches if the store is shared; nil otherwise
	accepts func(app string) map[string]string // findings that count apart
	log     *slog.Logger
	ctx     context.Context // of all runners; ends with Close
	stop    context.CancelFunc
	wg      sync.WaitGroup

	pieces  *pieces
	wholes  kept[*whole]
	making  singleflight.Group // of wholes
	digest  kept[*digest]
	stats   struct{ batches, bytes, lines, busy, broken, stale, refreshed atomic.Int64 }
	ready   atomic.Bool
	key     string    // of what this program derives with these settings; what another one derived is derived again
	began   time.Time // what recently means uses the time since: clocks jump
	repairs chan struct{}

	merging *semaphore.Weighted // recordings whose results are being put together
	viewing *semaphore.Weighted // answers that are being made from views
	playing *semaphore.Weighted // recordings that are being played again

	closing atomic.Int64 // Unix ns of Close
	waiting atomic.Int64 // bytes of batches that are not analysed yet

	mu        sync.Mutex
	closed    bool
	runners   map[string]*runner       // live streams that are loaded, by name; one is there until it has released its lease
	opening   map[string]chan struct{} // streams that are being loaded; closed when that is done or has failed
	members   map[string]*membership   // recordings of which a stream is loaded
	imports   map[string]*fileImport   // files that are being read, by recording
	reading   int                      // files that are being read, those of no recording yet too
	deleting  map[string]struct{}      // recordings
	deletions uint64                   // how often one has begun or ended to be deleted
	repaired  map[int64]struct{}       // streams that are being analysed again
	news      map[*Listener]struct{}
	versions  map[string]uint64 // of recordings: how often something of one has changed
	retained  retention
}

// atOnce is how many recordings are read as a whole at the same time, for each purpose.
func atOnce() int64 { return int64(max(2, runtime.GOMAXPROCS(0))) }

// maxRunners bounds how many live streams are loaded at once.
const maxRunners = 1000

// Settings returns what recordings are analysed with.
func (h *Hub) Settings() rules.Settings { return h.set }

// New returns a Hub on a store, whose rules use set. It starts no goroutine until a stream is loaded.
func New(s store.Store, set rules.Settings, log *slog.Logger) *Hub {
	ctx, stop := context.WithCancel(context.Background())
	h := &Hub{
		accepts: func(string) map[string]string { return nil },
		batches: s, catalog: s, results: s, leases: s, set: set, log: log, ctx: ctx, stop: stop, pieces: newPieces(s, s), wholes: newKept[*whole](keptWholes), digest: newKept[*digest](keptDigests), key: keyOf(&set), began: time.Now(), repairs: make(chan struct{}, 1),
		merging: semaphore.NewWeighted(atOnce()), viewing: semaphore.NewWeighted(atOnce()), playing: semaphore.NewWeighted(1),
		runners: map[string]*runner{}, opening: map[string]chan struct{}{}, members: map[string]*membership{}, imports: map[string]*fileImport{}, deleting: map[string]struct{}{}, repaired: map[int64]struct{}{},
		news: map[*Listener]struct{}{}, versions: map[string]uint64{},
	}
	if shared, ok := s.(store.Shared); ok {
		h.shareLog(shared)
	}
	return h
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

// Stats count what was taken in since the start.
type Stats struct {
	Batches, Bytes, Lines, Busy int64
	Broken                      int64 // streams whose analysis broke off
	Stale                       int64 // streams whose result was derived with another key, and is to be reanalysed
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

// Ready reports whether Resume has come to its end and, where several services share a log, all partitions are worked on.
func (h *Hub) Ready() bool {
	if h.shared == nil || !h.ready.Load() {
		return h.ready.Load()
	}
	all := h.shared.Services()
	return all.Free+all.Reading == 0
}

// Services returns the services that work on the same log, false where this one works alone.
func (h *Hub) Services() (store.Services, bool) {
	if h.shared == nil {
		return store.Services{}, false
	}
	return h.shared.Services(), true
}

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
	if h.front != nil {
		return h.front.put(ctx, stream, b)
	}
	var first []byte
	if b.N == 1 {
		if first = b.Lines; first == nil {
			first = []byte{} // an empty batch gets the error for its missing hello
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
	if h.front != nil {
		_, err := h.front.put(ctx, stream, Batch{N: unnumbered, Lines: lines, Owner: owner})
		return err
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
	if h.front != nil {
		return h.front.started(ctx, stream)
	}
	r := h.loadedRunner(stream)
	if r == nil {
		if _, err := h.catalog.LiveStream(ctx, stream); err != nil {
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

func newRecording(app, version, environment, source string) store.Recording {
	return store.Recording{
		ID: ids.Random(5), App: app, Version: version, Environment: environment, Source: source,
		CreatedNS: time.Now().UnixNano(), Summary: []byte("{}"),
	}
}
