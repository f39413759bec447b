package record

import (
	"slices"
	"sync/atomic"
	"time"
	"unsafe"

	"keenlantern.example/record/event"
)

// What outlives a session is kept within a share of the recorder's memory: what is registered, to be written again; what
// is alive and outlives scopes; and which object is which instance. What there is no room for is counted as lost: a
// registration or a singleton when a session begins without it, an object when it is met.

// remember makes room for so many bytes, and reports whether there is any; forgot gives it back.
func (r *Recorder) remember(bytes int64) bool {
	if r.remembered.Add(bytes) > r.most.remembered {
		r.remembered.Add(-bytes)
		return false
	}
	return true
}

func (r *Recorder) forgot(bytes int64) { r.remembered.Add(-bytes) }

// shares are how a recorder's memory is divided.
type shares struct {
	notes      int   // until they are lines, the spare buffers included
	lines      int   // until they are sent
	remembered int64 // beyond sessions
}

func sharesOf(memory int) shares {
	return shares{notes: memory / 16 * 5, lines: memory / 16 * 6, remembered: int64(memory / 16 * 5)}
}

// kept is a make of what is alive and outlives scopes, or is kept by what does, as it is written again.
type kept struct {
	making Making
	with   []event.With
	in     *KeptScope // nil: the root

	disposed int64 // Unix ns; 0: not yet
}

// keptOf returns what is kept of m. The scope it was asked for in may be gone by the time it is written.
func keptOf(m *Making) kept {
	k := kept{making: *m, with: make([]event.With, len(m.With))}
	for n, w := range m.With {
		w.Site, w.Service, w.Key = short(w.Site), short(w.Service), short(w.Key)
		k.with[n] = w
	}
	k.making.With, k.making.Scope = nil, 0
	k.making.By, k.making.Impl, k.making.Module, k.making.Disposer = short(m.By), short(m.Impl), short(m.Module), short(m.Disposer)
	if k.making.When.IsZero() {
		k.making.When = time.Now()
	}
	return k
}

// cost is about how many bytes k takes.
func (k *kept) cost() int64 {
	m := &k.making
	cost := int(unsafe.Sizeof(*k)) + 64 + len(m.By) + len(m.Impl) + len(m.Module) + len(m.Disposer)
	for n := range k.with {
		w := &k.with[n]
		cost += int(unsafe.Sizeof(*w)) + len(w.Site) + len(w.Service) + len(w.Key)
	}
	return int64(cost)
}

// open makes an event of a kept scope, in a session that began at start (Unix ns).
func (in *KeptScope) open(start int64) *event.Event {
	e := &event.Event{Kind: event.Open, Scope: in.id, T: in.opened - start, Has: event.Of(event.FScope)}
	text(e, event.FKind, &e.ScopeKind, short(in.Kind))
	return e
}

// ended makes an event of its disposal, in a session that began at start (Unix ns); nil if it was not disposed.
func (k *kept) ended(inst InstID, start int64) *event.Event {
	if k.disposed == 0 {
		return nil
	}
	return &event.Event{
		Kind: event.Dispose, Inst: inst, By: "container", State: string(Done), T: k.disposed - start, Has: event.Of(event.FInst, event.FBy, event.FState),
	}
}

// event makes one of k, in session s.
func (k *kept) event(inst InstID, s *session) *event.Event {
	n := k.making.note(inst)
	n.t = k.making.When.Sub(s.start).Nanoseconds()
	if k.in != nil {
		n.scope = k.in.id
	}
	if n.owner.said && !n.owner.none && n.owner.scope >= s.firstScope {
		n.owner = Owner{}
	}
	with := slices.Clone(k.with)
	for w := range with {
		if !s.knows(with[w].Inst) {
			with[w].Inst = 0
		}
	}
	e := &event.Event{}
	n.fill(e, with)
	return e
}

// bits is a set of small numbers. Set is for one goroutine at a time; has may be called by any.
type bits struct {
	words atomic.Pointer[[]atomic.Uint64]
}

func (b *bits) has(n uint64) bool {
	words := b.words.Load()
	return words != nil && n/64 < uint64(len(*words)) && (*words)[n/64].Load()>>(n%64)&1 == 1
}

func (b *bits) set(n uint64) {
	words := b.words.Load()
	if words == nil || n/64 >= uint64(len(*words)) {
		more := make([]atomic.Uint64, max(16, 2*(n/64+1)))
		if words != nil {
			for k := range *words {
				more[k].Store((*words)[k].Load())
			}
		}
		b.words.Store(&more)
		words = &more
	}
	w := &(*words)[n/64]
	w.Store(w.Load() | 1<<(n%64))
}
