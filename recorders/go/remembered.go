package record

import (
	"sync/atomic"

	"keenlantern.example/record/event"
)

// What outlives a session is remembered within a share of the recorder's memory: what is registered, to be told again; what
// is alive and outlives scopes; and which object is which instance. What there is no room for is counted as lost: a
// registration or a singleton when a session begins without it, an object when it is met.

// remember makes room for so many bytes, and tells whether there is any; forgot gives it back.
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

// kept is a make of what is alive and outlives scopes, as it is told again.
type kept struct {
	reg              RegID
	at               int64 // Unix ns
	ns               int64
	by, impl, module string
	disposable       bool
}

// keptCost is about what one takes besides its texts.
const keptCost = 176

func (k *kept) cost() int64 {
	return int64(keptCost + len(k.by) + len(k.impl) + len(k.module))
}

// event makes one of k, in a session that began at start (Unix ns).
func (k *kept) event(inst InstID, start int64) *event.Event {
	n := note{
		kind: event.Make, inst: inst, reg: k.reg, ns: k.ns, t: k.at - start, disposable: k.disposable, text: [5]string{k.by, k.impl, k.module},
	}
	e := &event.Event{}
	n.fill(e, nil)
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
