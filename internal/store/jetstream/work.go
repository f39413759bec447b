package jetstream

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"

	"keenlantern.example/internal/store"
)

// reachedRow is how far a partition has been worked on: all batches up to that number of the log are in stored results.
type reachedRow struct {
	Seq uint64 `json:"seq"`
}

// Work has w work on the partitions that are this service's share.
func (s *Store) Work(w store.Worker) error {
	s.parts.mu.Lock()
	s.parts.worker = w
	s.parts.mu.Unlock()
	select {
	case s.parts.wake <- struct{}{}:
	default:
	}
	s.begin(s.keepSaying)
	s.begin(s.tidy)
	return nil
}

// key returns the derivation key of what this service derives.
func (s *Store) key() string {
	if k, ok := s.worker().(interface{ Key() string }); ok {
		return k.Key()
	}
	return ""
}

// Lag returns how many batches of this service's partitions are stored and not analysed, and for how long the first of them has
// been.
func (s *Store) Lag() (batches int64, since time.Duration) {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	for _, p := range s.parts.held {
		batches += p.lag.batches
		if !p.lag.since.IsZero() && p.lag.batches > 0 {
			since = max(since, time.Since(p.lag.since))
		}
	}
	return batches, max(0, since)
}

// Published returns how many messages were published, how long that took in all, and how many failed.
func (s *Store) Published() (count int64, took time.Duration, failed int64) {
	return s.publish.count.Load(), time.Duration(s.publish.ns.Load()), s.publish.failed.Load()
}

// TakenOver returns how many partitions this service has taken since it began.
func (s *Store) TakenOver() int64 {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	return s.parts.taken
}

// unsaved is what of a stream has been given to the worker and may not be in stored results. Its batches come all the time, and results
// cover the older ones: marks say from where on, without remembering each batch.
type unsaved struct {
	last  int64  // batch
	marks []mark // the first batch, and the first one after each note, in their order
}

// mark is where a batch is in the log.
type mark struct {
	batch int64
	seq   uint64
}

// maxMarks bounds them where no result can be stored for long.
const maxMarks = 64

// given notes that a batch was given to the worker; marked says that it is to be kept where it is.
func (u *unsaved) given(m mark, marked bool) {
	u.last = m.batch
	if len(u.marks) == 0 || marked && len(u.marks) < maxMarks {
		u.marks = append(u.marks, m)
	}
}

// covered forgets the marks before which all is in stored results, which cover so many batches.
func (u *unsaved) covered(analysed int64) {
	for len(u.marks) > 1 && analysed >= u.marks[1].batch-1 {
		u.marks = u.marks[1:]
	}
}

// noteEvery is how often it is noted how far a partition has been worked on.
const noteEvery = 3 * time.Second

// workOn gives the worker what results from a partition, in the log's order, until it is lost or handed over.
func (s *Store) workOn(p *partition) {
	defer close(p.done)
	ctx, cancel := context.WithCancel(s.ctx)
	defer cancel()
	go func() {
		defer cancel()
		select {
		case <-p.lost:
		case <-p.going:
		case <-ctx.Done():
		}
	}()
	w := &working{s: s, p: p, open: map[string]*unsaved{}, fresh: map[string]struct{}{}}
	for try := 0; ctx.Err() == nil; try++ {
		began := time.Now()
		if err := w.read(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("reading a partition broke off; it is taken up again", "partition", p.n, "error", err)
			if try > 0 { // once may be the log's server being changed
				w.unready()
			}
		}
		if time.Since(began) > 10*time.Second {
			try = 0
		}
		_ = pause(ctx, try)
	}
	end, done := context.WithTimeout(s.ctx, patience)
	defer done()
	w.note(end)
}

// working is one partition that is being worked on.
type working struct {
	s     *Store
	p     *partition
	next  uint64 // the number in the log to go on with; 0 before the first time
	goal  uint64 // what was there at first: when that is done, the partition is ready
	open  map[string]*unsaved
	fresh map[string]struct{} // streams of which a batch has been marked since the last note
	wrote uint64

	failing  uint64 // the number of a batch that could not be taken
	failures int    // how often in a row
}

// begin finds out where to go on.
func (w *working) begin(ctx context.Context) error {
	ctx, cancel := within(ctx)
	defer cancel()
	r, _ := w.s.catalog.get(keyReached + strconv.Itoa(w.p.n))
	var reached reachedRow
	if r.value != nil {
		_ = json.Unmarshal(r.value, &reached) // 0 where it cannot be read: from the start
	}
	w.wrote, w.next = reached.Seq, reached.Seq+1
	return w.aim(ctx)
}

// batches is the subject of all batches of the partition.
func (w *working) batches() string { return w.s.cfg.Name + ".batch." + strconv.Itoa(w.p.n) + ".*.*" }

// aim finds out up to where the partition has to be read to be ready.
func (w *working) aim(ctx context.Context) error {
	last, err := w.s.latest(ctx, w.batches())
	if err != nil {
		return err
	}
	if w.goal = 0; last != nil {
		w.goal = last.Sequence
	}
	return nil
}

// read reads the partition from where it was left.
func (w *working) read(ctx context.Context) error {
	if w.next == 0 {
		if err := w.begin(ctx); err != nil {
			w.next = 0
			return err
		}
	}
	if err := w.sweep(ctx); err != nil {
		return err
	}
	c, err := w.s.js.OrderedConsumer(ctx, w.s.cfg.Name+"-batches", jetstream.OrderedConsumerConfig{
		FilterSubjects: []string{w.batches()}, NamePrefix: w.consumer(), InactiveThreshold: consumerFor,
		DeliverPolicy: jetstream.DeliverByStartSequencePolicy, OptStartSeq: w.next,
	})
	if err != nil {
		return away(err)
	}
	in, err := c.Messages(jetstream.PullMaxMessagesWithBytesLimit(readAhead, readAheadBytes), jetstream.PullHeartbeat(5*time.Second), jetstream.PullExpiry(30*time.Second))
	if err != nil {
		return away(err)
	}
	defer in.Stop()
	defer context.AfterFunc(ctx, in.Stop)()
	if !w.isReady() {
		if err := w.aim(ctx); err != nil { // up to the latest batch
			return err
		}
	}
	w.ready()
	notes := time.NewTicker(noteEvery)
	defer notes.Stop()
	stop := make(chan struct{})
	defer close(stop)
	messages := make(chan jetstream.Msg)
	failed := make(chan error, 1)
	go func() {
		for {
			m, err := in.Next()
			if err != nil {
				failed <- err
				return
			}
			select {
			case messages <- m:
			case <-stop:
				return
			}
		}
	}()
	for {
		select {
		case m := <-messages:
			if err := w.take(ctx, m); err != nil {
				return err
			}
			w.ready()
		case <-notes.C:
			w.note(ctx)
			w.aimLower(ctx)
		case err := <-failed:
			return err
		case <-ctx.Done():
			return nil
		}
	}
}

// consumerFor is how long the log keeps a consumer without reads. It is longer than a pause between two reads.
const consumerFor = 30 * time.Second

// consumer returns the prefix of the names of the partition's consumers.
func (w *working) consumer() string { return "partition-" + strconv.Itoa(w.p.n) }

// sweep deletes the consumers of previous holders that died: only the holder of a partition reads it, and a log may limit its consumers.
func (w *working) sweep(ctx context.Context) error {
	ctx, cancel := within(ctx)
	defer cancel()
	list := w.s.batches.ConsumerNames(ctx)
	var old []string
	for name := range list.Name() {
		if strings.HasPrefix(name, w.consumer()+"_") {
			old = append(old, name)
		}
	}
	if err := list.Err(); err != nil {
		return away(err)
	}
	for _, name := range old {
		if err := w.s.batches.DeleteConsumer(ctx, name); err != nil && !errors.Is(err, jetstream.ErrConsumerNotFound) {
			return away(err)
		}
	}
	return nil
}

// aimLower looks again up to where a partition that is not ready has to be read: what it waits for may have been deleted meanwhile.
func (w *working) aimLower(ctx context.Context) {
	was := w.goal
	if w.isReady() || w.aim(ctx) != nil {
		w.goal = was
		return
	}
	w.goal = min(w.goal, was)
	w.ready()
}

// How many batches of a partition, and bytes of them, are fetched before they are wanted. A message has at most 1 MiB.
const (
	readAhead      = 32
	readAheadBytes = 1<<20 + 64<<10
)

// take gives one batch to the worker.
func (w *working) take(ctx context.Context, m jetstream.Msg) error {
	meta, err := m.Metadata()
	if err != nil {
		return err
	}
	seq := meta.Sequence.Stream
	w.s.parts.mu.Lock()
	w.p.lag = lag{batches: int64(meta.NumPending) + 1, since: meta.Timestamp}
	w.s.parts.mu.Unlock()
	if err := w.give(ctx, m, seq); err != nil && !w.passOver(ctx, m, seq, err) {
		return err
	}
	w.next = seq + 1
	w.s.parts.mu.Lock()
	if w.p.lag.batches = int64(meta.NumPending); meta.NumPending == 0 {
		w.p.lag.since = time.Time{}
	}
	w.s.parts.mu.Unlock()
	return nil
}

// maxFailures is how often processing a batch may fail before it is skipped: by then the batch is at fault, not the log.
const maxFailures = 5

// passOver reports whether a batch that could not be processed is skipped, so that later batches are not delayed. Its stream then lacks a batch
// and breaks.
func (w *working) passOver(ctx context.Context, m jetstream.Msg, seq uint64, err error) bool {
	if ctx.Err() != nil || errors.Is(err, store.ErrAway) {
		return false
	}
	if w.failing != seq {
		w.failing, w.failures = seq, 0
	}
	if w.failures++; w.failures < maxFailures {
		return false
	}
	w.s.log.Error("a batch in the log cannot be processed and is skipped", "subject", m.Subject(), "sequence", seq, "error", err)
	return true
}

func (w *working) give(ctx context.Context, m jetstream.Msg, seq uint64) error {
	subject, h := m.Subject(), m.Headers()
	words := strings.Split(subject, ".")
	token := words[len(words)-2]
	e := endOf(subject, h)
	if e.Batches == 0 {
		return nil // a stream without batches begins
	}
	row := w.s.streamRow(token)
	if row == nil || e.Batches == 1 && row.ID != int64(seq) {
		var err error
		if e.Batches == 1 {
			err = w.s.learn(ctx, token, h, seq)
		} else {
			err = w.s.discover(ctx, token)
		}
		if errors.Is(err, store.ErrDamaged) {
			w.s.log.Error("a batch in the log is none that keenlantern has written; it is left alone", "subject", subject, "error", err)
			return nil
		}
		if errors.Is(err, store.ErrNotFound) {
			// Of a recording that was deleted while this batch was on its way.
			cut, cancel := within(ctx)
			defer cancel()
			_ = w.s.batches.Purge(cut, jetstream.WithPurgeSubject(w.s.subject(token, true)+">")) // it does no harm where it stays
			return nil
		}
		if err != nil {
			return err
		}
		if row = w.s.streamRow(token); row == nil {
			return nil
		}
	}
	w.s.saw(token, e)
	if w.open[token] == nil {
		w.open[token] = &unsaved{}
	}
	_, marked := w.fresh[token]
	w.fresh[token] = struct{}{}
	w.open[token].given(mark{e.Batches, seq}, !marked)
	if d := w.s.derivedRow(token); d != nil && d.Analysed >= e.Batches && d.Key == w.s.key() {
		return nil // it is in what is stored
	}
	room := bodies.Get().(*[]byte)
	b, err := w.s.unpack(ctx, subject, h, m.Data(), *room)
	if err != nil && !errors.Is(err, store.ErrDamaged) {
		return err
	}
	free := func() {
		if b.Body != nil && cap(b.Body) <= keptBody {
			*room = b.Body
			bodies.Put(room)
		}
	}
	for try := 0; ; try++ {
		err := w.s.worker().Take(ctx, row.Name, b, free) // a damaged one has no lines: the worker finds that out as it does with any
		if err == nil || errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if try == 20 {
			w.s.log.Error("a batch cannot be analysed yet; its partition waits", "stream", row.Name, "batch", b.N, "error", err)
		}
		if err := pause(ctx, try); err != nil {
			return err
		}
	}
}

// bodies are what batches are unpacked to, used again and again: what they leave behind would be more than all that is analysed. Large
// ones are not kept.
var bodies = sync.Pool{New: func() any { return new([]byte) }}

const keptBody = 1 << 20

// isReady reports whether all that was there at first has been read.
func (w *working) isReady() bool {
	w.s.parts.mu.Lock()
	defer w.s.parts.mu.Unlock()
	return w.p.ready
}

// unready marks the partition as not read at the moment, so that requests about its streams do not get outdated answers.
func (w *working) unready() {
	w.s.parts.mu.Lock()
	defer w.s.parts.mu.Unlock()
	if !w.p.ready {
		return
	}
	w.p.ready = false
	select {
	case w.s.parts.wake <- struct{}{}:
	default:
	}
}

// ready notes that all that was there at first has been given to the worker.
func (w *working) ready() {
	w.s.parts.mu.Lock()
	defer w.s.parts.mu.Unlock()
	if w.p.ready || w.next <= w.goal {
		return
	}
	w.p.ready = true
	select { // others should know at once
	case w.s.parts.wake <- struct{}{}:
	default:
	}
}

// note says how far the partition has been worked on, so that the next holder continues from there.
func (w *working) note(ctx context.Context) {
	if w.next == 0 {
		return
	}
	seq := w.next - 1
	clear(w.fresh)
	for token, u := range w.open {
		analysed := int64(0)
		if d := w.s.derivedRow(token); d != nil {
			analysed = d.Analysed
		}
		if analysed >= u.last || w.s.streamRow(token) == nil {
			delete(w.open, token)
			continue
		}
		u.covered(analysed)
		seq = min(seq, u.marks[0].seq-1)
	}
	if seq <= w.wrote || w.s.holding(w.p.n) != w.p {
		return
	}
	ctx, cancel := within(ctx)
	defer cancel()
	if _, err := w.s.catalog.put(ctx, keyReached+strconv.Itoa(w.p.n), pack(&reachedRow{seq}), nil); err == nil {
		w.wrote = seq
	}
}

// tidy removes, once for all services, what deletions and imports that broke off have left.
func (s *Store) tidy() {
	tick := time.NewTicker(s.cfg.Lease)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-s.ctx.Done():
			return
		}
		if !s.First() {
			continue
		}
		for _, id := range s.abandonedImports() {
			s.log.Warn("deleting an import that was cut off; send the file again", "recording", id)
			if err := s.DeleteRecording(s.ctx, id); err != nil && s.ctx.Err() == nil {
				s.log.Error("delete an import that was cut off", "recording", id, "error", err)
			}
		}
		s.dropOldSessions(s.ctx)
		var left []string
		s.catalog.each(keyRecording, func(key string, r row) {
			if row, ok := r.read.(*recordingRow); ok && row.Deleted {
				left = append(left, strings.TrimPrefix(key, keyRecording))
			}
		})
		for _, id := range left {
			if err := s.purge(s.ctx, id); err != nil && s.ctx.Err() == nil {
				s.log.Error("delete what is left of a recording", "recording", id, "error", err)
			}
		}
	}
}

// pause waits before something is tried again, longer each time.
func pause(ctx context.Context, try int) error {
	t := time.NewTimer(min(20*time.Millisecond<<min(try, 10), time.Second))
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}
