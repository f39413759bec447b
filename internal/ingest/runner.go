package ingest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

const (
	maxWaiting   = 12 << 20               // bytes of batches that wait or are analysed, of all streams
	maxUnsaved   = 128 << 10              // bytes of the log of scopes that are stored together
	queueLength  = 4                      // batches that wait in one stream
	publishEvery = 250 * time.Millisecond // how often what was found is made known while batches come
	keepEvery    = 10 * time.Second       // how often it is stored
	silentAfter  = 30 * time.Second       // a stream without a batch for so long is not running any more
	unloadAfter  = 5 * time.Minute        // and leaves memory; a later batch loads it again
)

// runner owns one live stream. Its run method is the only one that touches the engine and the stored counters.
type runner struct {
	intake
	log     *slog.Logger
	lease   store.Lease // of the stream, until run has ended
	jobs    chan job
	asks    chan chan<- snapshot
	stop    *meter.Stop   // ends its analysis
	quit    chan struct{} // closed when it has to end, because
	why     error
	ending  sync.Once
	retire  chan chan struct{} // has it leave memory, if nothing is going on; what is sent is closed where it stays
	hand    chan struct{}      // has it store what it knows and end: another service goes on
	gone    chan struct{}      // closed when run has ended
	leaving bool               // run is about to end: a batch that comes now waits for that; guarded by Hub.mu

	stream   *engine.Analysis
	saved    int64                         // batches that what is stored of it covers, -1 where that was derived in another way
	brokeOff bool                          // its analysis did, and that is stored
	dirty    bool                          // more was analysed than latest covers
	latest   atomic.Pointer[engine.Result] // what is known, for all readers
	heard    atomic.Int64                  // when the last batch came, as Hub.now has it

	publishAt time.Time // when what was found may be made known again
	asked     snapshot  // what the latest view got
	askedAt   time.Time
	unsaved   []store.Chunk // full chunks of the log of scopes that are not stored yet; they are before a view is answered
	askedSeen int64         // batches that asked covers
	dropped   bool          // nothing is kept of the analysis any more
	frozen    int64         // lines that the latest checkpoint covers
}

// snapshot is what views get of a loaded stream.
type snapshot struct {
	state   *derive.State
	pending []derive.Scope
}

type job struct {
	n      int64
	lines  []byte
	packed []byte // the same as zstd, if it came so
	free   func() // called when lines and packed are needed no longer; may be nil
	room   *Room
	answer chan answer

	logged    bool // it is in the log already, which several services share; of a damaged one there are no lines
	firstLine int64
	count     int64 // of lines
}

type answer struct {
	accepted Accepted
	err      error
}

// put hands a batch to the runner and waits for it to be on disk.
func (r *runner) put(ctx context.Context, b Batch) (Accepted, error) {
	j := job{n: b.N, lines: b.Lines, packed: b.Packed, free: b.Free, answer: make(chan answer, 1)}
	if r.stored.Owner != "" && b.Owner != "" && r.stored.Owner != b.Owner {
		b.free()
		return Accepted{}, store.ErrNotOwner
	}
	room, ok := r.hub.Room(int64(len(j.lines) + len(j.packed)))
	if !ok {
		b.free()
		return Accepted{}, ErrBusy
	}
	j.room = room
	select {
	case r.jobs <- j:
	default:
		r.done(j)
		r.hub.stats.busy.Add(1)
		return Accepted{}, ErrBusy
	}
	select {
	case a := <-j.answer:
		return a.accepted, a.err
	case <-ctx.Done():
		return Accepted{}, ctx.Err()
	case <-r.gone:
		select {
		case a := <-j.answer:
			return a.accepted, a.err
		default:
			r.done(j)
			return Accepted{}, ErrBusy // it was unloading: the sender tries again
		}
	}
}

// info returns the stream's hello, nil before it is known.
func (r *runner) info() *engine.Info {
	if now := r.latest.Load(); now != nil {
		return &now.Streams[0]
	}
	return nil
}

// live reports whether the stream is being written.
func (r *runner) live() bool {
	// Before anything of it was made known it has just begun, or is being read again.
	i := r.info()
	if i == nil {
		return !r.stored.Ended
	}
	return !i.Ended && r.silent() < silentAfter
}

// silent returns for how long no batch has come.
func (r *runner) silent() time.Duration { return time.Duration(r.hub.now() - r.heard.Load()) }

// leave has it store what was found and leave memory, unless batches are coming, and returns when it has left or stays.
func (r *runner) leave(ctx context.Context) {
	stays := make(chan struct{})
	select {
	case r.retire <- stays:
	case <-r.gone:
		return
	case <-ctx.Done():
		return
	}
	select {
	case <-stays:
	case <-r.gone:
	case <-ctx.Done():
	}
}

// mayLeave is leave for who does not wait for it.
func (r *runner) mayLeave() {
	select {
	case r.retire <- make(chan struct{}):
	default: // it was reported already
	}
}

// end stops it immediately, and waits for that. What waits in it is refused with why.
func (r *runner) end(why error) {
	r.ending.Do(func() {
		r.why = why
		r.stop.Call()
		close(r.quit)
	})
	<-r.gone
}

// run takes batches until the hub closes or nothing has come for long.
func (r *runner) run() {
	defer r.hub.gone(r)
	// What was accepted is finished even when the hub is closing; the store stays open until then.
	ctx := context.WithoutCancel(r.hub.ctx)
	if err := r.catchUp(ctx); err != nil {
		r.refuse(err)
		return
	}
	// At the end there is time for what was accepted, and not for ever: the rest is analysed at the next start.
	defer context.AfterFunc(r.hub.ctx, func() { time.AfterFunc(closingTime, r.stop.Call) })()
	if r.stored.Batches > 0 {
		r.publish()
	}
	publish := time.NewTicker(publishEvery)
	defer publish.Stop()
	keep := time.NewTicker(keepEvery)
	defer keep.Stop()
	for end := false; !end; {
		if !r.brokeOff && r.stream.Broken() != nil {
			r.brokeOff = true
			r.saveNew(ctx) // so that it is known as broken everywhere, and after a restart
		}
		select {
		case j := <-r.jobs:
			end = r.work(ctx, j)
		case <-r.quit:
			r.refuse(r.why)
			return
		case <-r.lease.Lost(): // the lease was lost: nothing more is stored
			r.refuse(ErrBusy)
			return
		case stays := <-r.retire:
			if end = !r.live() && r.rest(ctx); !end {
				close(stays)
			}
		case <-r.hand:
			r.close(ctx, time.Now())
			return
		case answer := <-r.asks:
			r.keepScopes(ctx)
			answer <- r.snapshot()
		case <-publish.C:
			end = r.tick(ctx)
		case <-keep.C:
			if end = r.silent() > unloadAfter && r.rest(ctx); !end {
				r.saveNew(ctx)
				r.rested(ctx)
			}
		case <-r.hub.ctx.Done():
			r.close(ctx, time.Unix(0, r.hub.closing.Load()))
			return
		}
	}
}

// catchUp analyses what is stored of the stream.
func (r *runner) catchUp(ctx context.Context) error {
	closing := context.AfterFunc(r.hub.ctx, r.stop.Call)
	defer closing()
	stream, frozen, err := r.hub.replayInto(ctx, r.stored, r.stop, r.chunk)
	for errors.Is(err, store.ErrAway) && r.patient() { // what it was given is in the log, and no sender sends it again
		r.unsaved = nil
		stream, frozen, err = r.hub.replayInto(ctx, r.stored, r.stop, r.chunk)
	}
	if errors.Is(err, engine.ErrInterrupted) {
		return ErrClosed
	}
	if err != nil {
		r.log.Error("read the stream again", "error", err)
		return err
	}
	r.stream, r.frozen, r.saved = stream, frozen, r.stored.Analysed
	r.hub.noteBroken(stream, r.stored)
	if r.stored.DerivedBy != r.hub.key {
		r.saved = -1 // what is stored was derived in another way
	}
	return nil
}

// work takes a batch, and reports whether the runner ends with it.
func (r *runner) work(ctx context.Context, j job) (end bool) {
	r.stream.Remember(r.hub.share())
	r.take(ctx, j)
	if r.fresh.Load() { // its first batch could not be stored: nothing of it is there
		r.refuse(ErrBusy)
		return true
	}
	if r.stored.Lines-r.frozen >= r.hub.checkpointLines() {
		r.checkpoint(ctx)
	}
	if r.latest.Load() == nil && r.stored.Batches > 0 {
		r.publish()
	}
	return false
}

// tick publishes news, and reports whether the runner ends: its stream has ended and everything is stored.
func (r *runner) tick(ctx context.Context) (end bool) {
	if r.dirty && !time.Now().Before(r.publishAt) {
		r.publish()
	}
	if i := r.info(); i == nil || !i.Ended || r.dirty {
		return false
	}
	r.saveNew(ctx)
	r.ended(ctx)
	return r.saved == r.stored.Batches && r.hub.leaves(r, false) // another batch has it read again
}

// rest stores what is known of a stream from which nothing comes, and reports whether the runner ends: not where a batch waits.
func (r *runner) rest(ctx context.Context) (end bool) {
	if !r.hub.leaves(r, false) {
		return false
	}
	r.stream.Finish()
	r.dirty, r.saved = true, -1
	r.saveNew(ctx)
	return true
}

// close finishes what was accepted, when the hub closes or another service goes on, which began then.
func (r *runner) close(ctx context.Context, began time.Time) {
	for more := true; more; {
		select {
		case j := <-r.jobs:
			r.take(ctx, j)
		default:
			more = false
		}
	}
	r.hub.leaves(r, true)
	if r.stored.Batches > 0 {
		r.saveNew(ctx)
	}
	if r.stored.Lines-r.frozen >= lastLines && time.Since(began) < closingTime {
		r.checkpoint(ctx)
	}
}

// saveNew stores what was found where that has not been done.
func (r *runner) saveNew(ctx context.Context) {
	if r.saved == r.stored.Batches || r.fresh.Load() { // fresh: its first batch is still being rejected
		return
	}
	if err := r.save(ctx); err != nil {
		r.log.Error("store what was found", "error", err)
		return
	}
	r.saved = r.stored.Batches
}

// refuse has the runner leave at once: what waits in it is refused.
func (r *runner) refuse(err error) {
	r.hub.leaves(r, true)
	r.refuseWaiting(err)
}

func (r *runner) refuseWaiting(err error) {
	for {
		select {
		case j := <-r.jobs:
			j.answer <- answer{err: err}
			r.done(j)
		default:
			return
		}
	}
}

// done says that a batch waits no longer.
func (r *runner) done(j job) {
	if j.room != nil {
		j.room.Free()
	}
	if j.free != nil {
		j.free()
	}
}

// take stores a batch, answers, and analyses it.
func (r *runner) take(ctx context.Context, j job) {
	defer r.done(j)
	if j.logged {
		r.follow(ctx, j)
		return
	}
	accepted, fresh, err := r.intake.take(ctx, j.n, j.lines, j.packed)
	j.answer <- answer{accepted, err}
	if err != nil || !fresh {
		return
	}
	r.heard.Store(r.hub.now())
	r.analyse(ctx, j.lines, r.stored.Lines-accepted.Lines+1)
}

// analyse analyses the lines of a batch that is stored.
func (r *runner) analyse(ctx context.Context, lines []byte, firstLine int64) {
	r.dirty = true
	whole := r.stream.Broken() == nil
	analyse(r.stream, lines, firstLine)
	if r.stream.Ended() {
		r.stream.Finish()
	}
	if whole {
		r.hub.noteBroken(r.stream, r.stored)
	}
	unsaved := 0
	for _, c := range r.unsaved {
		unsaved += len(c.Body)
	}
	if unsaved >= maxUnsaved {
		r.keepScopes(ctx)
	}
}

func (r *runner) keepScopes(ctx context.Context) {
	if err := r.saveScopes(ctx); err != nil {
		r.log.Error("store the log of scopes", "error", err)
	}
}

// publish makes known what was found so far.
func (r *runner) publish() {
	began := time.Now()
	result := r.stream.Result()
	if r.stream.Interrupted() {
		return
	}
	if i := &result.Streams[0]; i.Stream == "" { // it broke before its hello
		i.App, i.Stream, i.Version, i.Environment = r.of.App, r.stored.Name, r.of.Version, r.of.Environment
	}
	r.latest.Store(result)
	r.dirty = false
	// What takes long is done less often: nine tenths of the time are left for lines.
	r.publishAt = time.Now().Add(9 * time.Since(began))
	r.hub.tell(r.stored.Recording)
}

// save stores what was found, and what lists show of it.
func (r *runner) save(ctx context.Context) error {
	if r.dirty {
		r.publish()
	}
	if err := r.saveScopes(ctx); err != nil {
		return err
	}
	state := r.stream.State()
	if r.stream.Interrupted() {
		return engine.ErrInterrupted
	}
	// What is in no chunk yet is stored as if it were, and replaced when it is.
	var tail []store.Chunk
	for part := range slices.Chunk(r.pending(), derive.ChunkRows) {
		c := derive.Pack(len(state.Chunks), part)
		state.Chunks = append(state.Chunks, c.Info)
		tail = append(tail, store.Chunk{N: c.Info.N, Body: c.Body})
	}
	if err := r.hub.results.PutChunks(ctx, r.stored.ID, tail); err != nil {
		return err
	}
	return r.hub.putDerived(ctx, r.stored.ID, r.stored.Batches, r.latest.Load(), state, false)
}

// chunk takes a full part of the log of scopes, to be stored with some others.
func (r *runner) chunk(c derive.Chunk) {
	r.unsaved = append(r.unsaved, store.Chunk{N: c.Info.N, Body: c.Body})
}

func (r *runner) saveScopes(ctx context.Context) error {
	if err := r.hub.results.PutChunks(ctx, r.stored.ID, r.unsaved); err != nil {
		return err
	}
	r.unsaved = nil
	return nil
}

// snapshot returns what views answer from; it is recomputed a few times a second at most.
func (r *runner) snapshot() snapshot {
	if r.asked.state == nil || r.asked.state.Start == "" || r.askedSeen != r.stored.Batches && time.Since(r.askedAt) >= publishEvery {
		r.asked, r.askedAt, r.askedSeen = snapshot{r.stream.State(), r.pending()}, time.Now(), r.stored.Batches
	}
	return r.asked
}

// pending lists the scopes that are in no chunk yet.
func (r *runner) pending() (rows []derive.Scope) {
	r.stream.Pending(func(s derive.Scope) { rows = append(rows, s) })
	return rows
}

// ask returns what views answer from, false where the runner has ended or is not ready.
func (r *runner) ask(ctx context.Context) (snapshot, bool) {
	answer := make(chan snapshot, 1)
	select {
	case r.asks <- answer:
	case <-r.gone:
		return snapshot{}, false
	case <-ctx.Done():
		return snapshot{}, false
	}
	select {
	case k := <-answer:
		return k, k.state != nil // nil: it was interrupted
	case <-r.gone:
		return snapshot{}, false
	}
}

// readers are used again and again: each has room for a line, and knows the names by then.
var readers = sync.Pool{New: func() any { return reader.New(nil, reader.Options{}) }}

// analyse gives the lines of one batch to a stream.
func analyse(s *engine.Analysis, lines []byte, firstLine int64) {
	in := readers.Get().(*reader.Reader)
	defer readers.Put(in)
	in.ResetTo(lines, firstLine)
	_ = engine.PutAll(in, s) // io.EOF: bytes in memory fail in no other way
	in.Reset(nil, 0)         // the lines are their owner's again
}

// helloOf returns the hello with which a first batch has to start.
func helloOf(lines []byte) (event.Event, error) {
	line, err := reader.New(bytes.NewReader(lines), reader.Options{}).Next()
	switch {
	case errors.Is(err, io.EOF):
		return event.Event{}, &Unusable{"the first batch of a stream is empty; it starts with a hello"}
	case err != nil:
		return event.Event{}, err
	case line.Refused != "":
		return event.Event{}, &Unusable{"the first line of a stream has to be its hello, and this one was refused: " + line.Refused}
	case line.Event == nil || line.Event.Kind != event.Hello:
		return event.Event{}, &Unusable{"the first line of a stream has to be its hello"}
	}
	return *line.Event.Clone(), nil
}
