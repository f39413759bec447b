package facts

import "keenlantern.example/internal/core/ledger"

// Layers knows what surrounds what: declared by registrations that wrap, or inferred where a service declares nothing: an
// instance of it that keeps exactly one instance of it, not for all, of another registration, and no proxy.
type Layers struct {
	facts    *Facts
	inferred map[pair]bool // false: something speaks against it
	changes  int64         // of inferred

	// What follows from inferred, recomputed when it has changed.
	wrappers map[*ledger.Registration][]*ledger.Registration `freeze:"-"` // in the order of registrations
	layers   map[*ledger.Registration]bool                   `freeze:"-"`
	asOf     [2]int64                                        `freeze:"-"`

	// The latest holder, and how many of its own service it keeps, for the edges of one line.
	latest    *ledger.Instance `freeze:"-"`
	latestSeq int64            `freeze:"-"`
	same      int              `freeze:"-"`
	sameAll   bool             `freeze:"-"` // some of them were asked for among all
}

// pair is an outer registration and the one that it seems to wrap.
type pair struct{ outer, inner *ledger.Registration }

// maxLayers bounds how far a chain is followed.
const maxLayers = 32

// maxInferred bounds the pairs that are kept.
const maxInferred = 50_000

func newLayers(f *Facts) *Layers { return &Layers{facts: f, inferred: map[pair]bool{}} }

// see infers layers where nothing declares them.
func (l *Layers) see(c *ledger.Change) {
	h, d := c.Holder, c.Inst
	if h == nil || h.Reg == nil || d.Reg == nil || !h.Reg.SameService(d.Reg) || d.Proxy() || h.Reg == d.Reg || h.Reg.Internal || d.Reg.Internal {
		return
	}
	w := l.facts.world
	if l.latest != h || l.latestSeq != w.Seq {
		l.count(h)
	}
	p := pair{h.Reg, d.Reg.Real()}
	good, seen := l.inferred[p]
	if seen && !good || h.Sees(w)&ledger.SeesWith == 0 || !seen && len(l.inferred) == maxInferred {
		return
	}
	if now := l.same == 1 && !l.sameAll; !seen || now != good {
		l.inferred[p] = now
		l.changes++
	}
}

// count counts what h keeps of its own service.
func (l *Layers) count(h *ledger.Instance) {
	l.latest, l.latestSeq, l.same, l.sameAll = h, l.facts.world.Seq, 0, false
	l.facts.world.Step(len(h.Keeps))
	for k := range h.Keeps {
		e := &h.Keeps[k]
		if e.Kept == nil || e.Kept.Reg == nil || !e.Kept.Reg.SameService(h.Reg) {
			continue
		}
		l.same++
		need := h.Reg.AskedAt(int(e.Slot))
		l.sameAll = l.sameAll || e.All || e.Slot >= 0 && need != nil && need.All
	}
}

// index sorts what was inferred, so that asking for it does not mean looking through all of it.
func (l *Layers) index() {
	as := [2]int64{l.changes + 1, l.facts.world.SetUp}
	if l.asOf == as {
		return
	}
	l.asOf = as
	l.wrappers, l.layers = map[*ledger.Registration][]*ledger.Registration{}, map[*ledger.Registration]bool{}
	inner := map[*ledger.Registration][]*ledger.Registration{}
	around := map[*ledger.Registration]int{} // how many of one container seem to wrap it
	for p, good := range l.inferred {
		if good && p.outer.Container == p.inner.Container {
			around[p.inner]++
		}
	}
	for p, good := range l.inferred {
		// Two instances of a service that share a third are results of one constructor, and no layers.
		if good && around[p.inner] < 2 {
			l.layers[p.outer] = true
			inner[p.outer] = append(inner[p.outer], p.inner)
		}
	}
	for _, r := range l.facts.world.Registrations() {
		for _, in := range inner[r] {
			l.wrappers[in] = append(l.wrappers[in], r)
		}
	}
}

// Around returns the registrations that directly wrap r: declared, or inferred where its service declares nothing.
func (l *Layers) Around(r *ledger.Registration) (wrappers []*ledger.Registration, inferred bool) {
	g := l.facts.Answers()
	if list := g.Wrappers(r); len(list) > 0 || g.Declares(r.Service) {
		return list, false
	}
	l.index()
	return l.wrappers[r], true
}

// Chain returns what surrounds r, from the inside out: all that wraps it, and all that wraps the outermost of those in
// turn. Outermost is r itself where nothing does.
func (l *Layers) Chain(r *ledger.Registration) (outermost *ledger.Registration, wrappers []*ledger.Registration, inferred bool) {
	outermost = r
	for range maxLayers {
		next, by := l.Around(outermost)
		if len(next) == 0 || next[len(next)-1] == r {
			break
		}
		wrappers = append(wrappers, next...)
		inferred = inferred || by
		outermost = next[len(next)-1]
	}
	return outermost, wrappers, inferred
}

// IsLayer reports whether r wraps something, declared or inferred.
func (l *Layers) IsLayer(r *ledger.Registration) bool {
	if r.Inner() != nil {
		return true
	}
	l.index()
	return l.layers[r] && !l.facts.Answers().Declares(r.Service)
}

// Wraps reports whether following layers inwards from outer comes to inner.
func (l *Layers) Wraps(outer, inner *ledger.Registration) bool {
	at := inner
	for range maxLayers {
		next, _ := l.Around(at)
		if len(next) == 0 {
			return false
		}
		for _, w := range next {
			if w == outer {
				return true
			}
		}
		if at = next[len(next)-1]; at == inner {
			return false
		}
	}
	return false
}

// Inner returns the layer inside an instance: what it wraps by its registration, or else what it was inferred to wrap; nil
// if it is none, or keeps nothing that it could be.
func (l *Layers) Inner(i *ledger.Instance) (inner *ledger.Instance, inferred bool) {
	if i.Reg == nil {
		return nil, false
	}
	want := i.Reg.Inner()
	l.facts.world.Step(len(i.Keeps))
	for n := range i.Keeps {
		k := i.Keeps[n].Kept
		if k == nil || k.Reg == nil || k == i {
			continue
		}
		if want != nil && k.Reg.Real() == want {
			return k, false
		}
		if want == nil && l.inferred[pair{i.Reg, k.Reg.Real()}] {
			return k, true
		}
	}
	return nil, false
}
