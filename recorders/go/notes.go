package record

import (
	"math/rand/v2"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"
	"unsafe"

	"keenlantern.example/record/event"
)

// What happens is noted in a few words of memory, in one of several shards so that goroutines on different cores do not
// wait for each other, and turned into lines by a goroutine of the recorder's own. The time is taken under the shard's
// lock and all shards are emptied under all locks, so that lines stand in the order of their times.

// use is the commonest note: a call. It holds no pointers, which spares the garbage collector.
type use struct {
	t, ns    int64
	inst, by InstID
	scope    ScopeID
}

// note is any other.
type note struct {
	t, ns       int64
	kind        event.Kind
	noScope     bool
	disposable  bool
	hasKey      bool
	all         bool
	lasting     bool
	from, to    int32 // of the shard's with
	inst, other InstID
	scope       ScopeID
	reg         RegID
	weight      int64
	owner       Owner
	container   ContainerID
	when        time.Time // when it was, where that is not the time of the note
	age         int64     // ns before the note was taken at which it was
	text        [5]string
	ev          *event.Event // rare kinds in full
}

// shard is one place where notes are taken.
type shard struct {
	mu   sync.Mutex
	uses []use
	rest []note
	with []event.With
	text int // bytes of the texts in rest and with
	lost int64

	_ [64]byte // keeps neighbours out of its cache line
}

// limits are how many notes one shard takes.
type limits struct{ uses, rest, with, text int }

const (
	maxShards = 16
	leastUses = 64
	leastRest = 64
)

func (r *Recorder) makeShards() {
	n := 1
	for n < runtime.GOMAXPROCS(0) && n < maxShards {
		n *= 2
	}
	r.shards, r.spare = make([]shard, n), make([]shard, n)
}

// limit returns how many notes a shard may hold: all shards and their spare buffers together take their share of the
// memory.
func (r *Recorder) limit() limits {
	each := r.most.notes / 2 / len(r.shards)
	return limits{
		uses: max(leastUses, each/4/int(unsafe.Sizeof(use{}))),
		rest: max(leastRest, each/8*3/int(unsafe.Sizeof(note{}))),
		with: max(leastRest, each/8/int(unsafe.Sizeof(event.With{}))),
		text: max(8<<10, each/4),
	}
}

// longestText is how much of a text is kept while it waits to be written; event.AppendLine cuts no later.
const longestText = event.MaxText + utf8.UTFMax

// short cuts a text that is longer than is ever written, so that it does not hold what cannot be of use.
func short(s string) string {
	if len(s) > longestText {
		return strings.Clone(s[:longestText])
	}
	return s
}

// texts returns how many bytes of text a note and what it lists hold.
func (n *note) texts(with []event.With) int {
	size := 0
	for k := range n.text {
		n.text[k] = short(n.text[k])
		size += len(n.text[k])
	}
	for k := range with {
		size += len(with[k].Site) + len(with[k].Service) + len(with[k].Key)
	}
	if n.ev != nil {
		size += n.ev.Held()
	}
	return size
}

// shard returns one by chance, locked: two goroutines rarely meet in the same.
func (r *Recorder) shard() *shard {
	s := &r.shards[rand.Uint32()&uint32(len(r.shards)-1)]
	s.mu.Lock()
	return s
}

// add notes n in session of, unless that has ended.
func (r *Recorder) add(of *session, n *note, with []event.With) {
	text := n.texts(with)
	s := r.shard()
	for tries := 0; r.session.Load() == of && s.full(of, text, len(with)); tries++ {
		// Set-up comes in bursts, and nothing of it should be missing. A request never encodes or waits for others.
		setup := n.ev != nil || n.kind == event.Make && r.outlives(n.reg)
		if !setup || tries == maxRelief || r.crowded.Load() {
			s.lost++
			s.mu.Unlock()
			r.crowd()
			return
		}
		s.mu.Unlock()
		if !r.relieve() {
			time.Sleep(reliefWait)
		}
		s.mu.Lock()
	}
	if r.session.Load() != of {
		s.mu.Unlock()
		return
	}
	if len(with) > 0 {
		n.from = int32(len(s.with))
		s.with = append(s.with, with...)
		n.to = int32(len(s.with))
	}
	n.t = time.Since(of.start).Nanoseconds()
	if !n.when.IsZero() {
		n.age, n.when = max(0, n.t-n.when.Sub(of.start).Nanoseconds()), time.Time{}
	}
	s.rest = append(s.rest, *n)
	full := len(s.rest) == of.limit.rest/2 || s.text <= of.limit.text/2 && s.text+text > of.limit.text/2
	s.text += text
	s.mu.Unlock()
	if full {
		r.hurry()
	}
}

// full reports whether a shard has no room for a note with so much text and so many things listed.
func (s *shard) full(of *session, text, with int) bool {
	return len(s.rest) >= of.limit.rest || len(s.with)+with > of.limit.with && with > 0 || s.text+text > of.limit.text
}

// maxRelief bounds how often a caller tries to make room for its note, and reliefWait is how long it waits between two tries while another
// goroutine does just that: 2 ms together.
const (
	maxRelief  = 40
	reliefWait = 50 * time.Microsecond
)

// relieve encodes all notes on the caller's goroutine, if there is memory for their lines. When an application starts, a burst can fill the
// shards before the recorder's goroutine runs. It returns false if another goroutine is encoding.
func (r *Recorder) relieve() bool {
	if !r.encode.TryLock() {
		return false
	}
	defer r.encode.Unlock()
	r.drawOnce(false)
	return true
}

// addUse notes a call.
func (r *Recorder) addUse(of *session, u use) {
	s := r.shard()
	if r.session.Load() != of {
		s.mu.Unlock()
		return
	}
	if len(s.uses) >= of.limit.uses {
		s.lost++
		s.mu.Unlock()
		r.crowd()
		return
	}
	u.t = time.Since(of.start).Nanoseconds()
	s.uses = append(s.uses, u)
	full := len(s.uses) == of.limit.uses/2
	s.mu.Unlock()
	if full {
		r.hurry()
	}
}

// hurry has the notes turned into lines before their time.
func (r *Recorder) hurry() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// crowd notes that memory is short: from now on, scopes that begin are left out as a whole, so that what is recorded of
// the others stays true.
func (r *Recorder) crowd() {
	r.crowded.Store(true)
	r.hurry()
}

// taken is what was noted in all shards up to one moment.
type taken struct {
	shards   []shard // without their locks
	lost     int64   // what was dropped, and what happened in scopes that were left out
	overflow bool    // something was dropped
}

// take empties the shards. The caller holds encode, and has the taken buffers given back before the next take.
func (r *Recorder) take(between func()) taken {
	for n := range r.shards {
		r.shards[n].mu.Lock()
	}
	t := taken{shards: r.spare}
	for n := range r.shards {
		s, spare := &r.shards[n], &r.spare[n]
		s.uses, spare.uses = spare.uses[:0], s.uses
		s.rest, spare.rest = spare.rest[:0], s.rest
		s.with, spare.with = spare.with[:0], s.with
		t.lost += s.lost
		t.overflow = t.overflow || s.lost > 0
		s.lost, s.text = 0, 0
	}
	if between != nil {
		between()
	}
	for n := range r.shards {
		r.shards[n].mu.Unlock()
	}
	t.lost += r.skipped.Swap(0)
	return t
}

// each calls f for all notes in the order of their times; a call's note is given as u, any other as n with what it lists.
func (t *taken) each(f func(u *use, n *note, with []event.With)) {
	var uses, rest [maxShards]int
	for {
		best, isUse := -1, false
		var first int64
		for k := range t.shards {
			s := &t.shards[k]
			if at := rest[k]; at < len(s.rest) && (best < 0 || s.rest[at].t < first) {
				best, isUse, first = k, false, s.rest[at].t
			}
			if at := uses[k]; at < len(s.uses) && (best < 0 || s.uses[at].t < first) {
				best, isUse, first = k, true, s.uses[at].t
			}
		}
		if best < 0 {
			break
		}
		s := &t.shards[best]
		if isUse {
			f(&s.uses[uses[best]], nil, nil)
			uses[best]++
			continue
		}
		n := &s.rest[rest[best]]
		f(nil, n, s.with[n.from:n.to])
		rest[best]++
	}
	for k := range t.shards {
		s := &t.shards[k]
		clear(s.rest) // names may be released
		clear(s.with)
		s.uses, s.rest, s.with = roomy(s.uses), roomy(s.rest), roomy(s.with)
	}
}

// roomy returns a buffer for reuse, or nil if it is much larger than its contents: the memory of one burst is released.
func roomy[T any](list []T) []T {
	if cap(list) > 1024 && len(list) < cap(list)/8 {
		return nil
	}
	return list
}

// fill makes an event of a note.
func (n *note) fill(e *event.Event, with []event.With) {
	e.Kind, e.T, e.NS, e.Inst, e.Scope, e.Reg = n.kind, n.t-n.age, n.ns, n.inst, n.scope, n.reg
	switch n.kind {
	case event.Open:
		e.Has = event.Of(event.FScope)
		if n.other != 0 {
			e.InScope = ScopeID(n.other)
			e.Has.Set(event.FIn)
		}
		text(e, event.FKind, &e.ScopeKind, n.text[0])
		text(e, event.FName, &e.Name, n.text[1])
		text(e, event.FTrace, &e.Trace, n.text[2])
		text(e, event.FCloser, &e.Closer, n.text[3])
		text(e, event.FAt, &e.At, n.text[4])
		if n.inst != 0 {
			e.Opener = n.inst
			e.Has.Set(event.FOpener)
		}
		if n.reg != 0 {
			e.Within = ScopeID(n.reg)
			e.Has.Set(event.FWithin)
		}
		if n.weight > 1 {
			e.Weight = n.weight
			e.Has.Set(event.FWeight)
		}
		if n.lasting {
			e.Ends = "shutdown"
			e.Has.Set(event.FEnds)
		}
	case event.Join:
		e.InScope = ScopeID(n.other)
		e.Has = event.Of(event.FScope, event.FIn)
	case event.Close:
		e.Has = event.Of(event.FScope)
	case event.Make:
		e.Has = event.Of(event.FInst, event.FScope)
		if n.reg != 0 {
			e.Has.Set(event.FReg)
		}
		if n.ns > 0 {
			e.Has.Set(event.FNS)
		}
		if len(with) > 0 {
			e.With = append(e.With, with...)
			slot := 0
			for k := range e.With {
				if k > 0 && !together(&e.With[k-1], &e.With[k]) {
					slot++
				}
				e.With[k].Slot = slot
			}
			e.Has.Set(event.FWith)
		}
		text(e, event.FBy, &e.By, n.text[0])
		text(e, event.FImpl, &e.Impl, n.text[1])
		text(e, event.FModule, &e.Module, n.text[2])
		text(e, event.FDisposer, &e.Disposer, n.text[3])
		if n.owner.said {
			e.Owner, e.OwnerNull = n.owner.scope, n.owner.none
			e.Has.Set(event.FOwner)
		}
		if n.container != 0 {
			e.Container = n.container
			e.Has.Set(event.FContainer)
		}
		flag(e, event.FDisposable, &e.Disposable, n.disposable)
	case event.Give:
		e.Has = event.Of(event.FInst)
		if !n.noScope {
			e.Has.Set(event.FScope)
		}
		if n.other != 0 {
			e.To = n.other
			e.Has.Set(event.FTo)
		}
		text(e, event.FEntry, &e.Entry, n.text[0])
		text(e, event.FService, &e.Service, n.text[1])
		text(e, event.FHow, &e.How, n.text[2])
		text(e, event.FKey, &e.Key, n.text[3])
		text(e, event.FSite, &e.Site, n.text[4])
		if n.hasKey {
			e.Has.Set(event.FKey)
		}
		flag(e, event.FAll, &e.All, n.all)
	case event.Dispose:
		e.Has = event.Of(event.FInst, event.FScope, event.FState)
		if n.ns > 0 {
			e.Has.Set(event.FNS)
		}
		e.State = n.text[1]
		text(e, event.FBy, &e.By, n.text[0])
		text(e, event.FError, &e.Error, n.text[2])
	case event.Forget:
		e.Has = event.Of(event.FInst, event.FBy)
		e.By = n.text[0]
	}
}

// together reports whether two things were given at one place: of all that were asked for.
func together(a, b *event.With) bool {
	return a.All && b.All && a.Service == b.Service && a.Key == b.Key && a.Site == b.Site
}

func (u *use) fill(e *event.Event) {
	e.Kind, e.T, e.NS, e.Inst, e.Scope = event.Use, u.t, u.ns, u.inst, u.scope
	e.Has = event.Of(event.FInst, event.FScope, event.FNS)
	if u.by != 0 {
		e.User = u.by
		e.Has.Set(event.FBy)
	}
}
