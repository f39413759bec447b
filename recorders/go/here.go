package record

import (
	"sync"

	"keenlantern.example/record/internal/goroutine"
)

// places know in which scope goroutines work.
type places [64]struct {
	mu sync.Mutex
	in map[uintptr]ScopeID
	_  [40]byte // keeps neighbours out of its cache line
}

// Follow has Here answer from now on. Adapters call it for containers that pass no context along; it costs a request some
// tens of ns while it is recorded, and nothing while it is not.
func (r *Recorder) Follow() {
	if r != nil {
		r.follow.Store(true)
	}
}

// Here returns the scope that the calling goroutine works in, false where that is not known: nothing is recorded, no adapter
// needs it, or another goroutine than the one that Handler, Run or Enter began on is asking.
func (r *Recorder) Here() (ScopeID, bool) {
	if r == nil || !r.follow.Load() || r.session.Load() == nil {
		return 0, false
	}
	g := goroutine.ID()
	p := &r.places[g>>6%uintptr(len(r.places))]
	p.mu.Lock()
	defer p.mu.Unlock()
	scope, ok := p.in[g]
	return scope, ok
}

// Enter records that the calling goroutine works in a scope until it calls leave, which it does before it ends.
func (r *Recorder) Enter(scope ScopeID) (leave func()) {
	if r == nil || !r.follow.Load() || r.session.Load() == nil {
		return nothing
	}
	g := goroutine.ID()
	p := &r.places[g>>6%uintptr(len(r.places))]
	p.mu.Lock()
	defer p.mu.Unlock()
	before, within := p.in[g]
	if p.in == nil {
		p.in = map[uintptr]ScopeID{}
	}
	p.in[g] = scope
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if within {
			p.in[g] = before
		} else {
			delete(p.in, g)
		}
	}
}

func nothing() {}

// On reports whether anything is recorded at the moment.
func (r *Recorder) On() bool { return r != nil && r.session.Load() != nil }
