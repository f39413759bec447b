package rules

import (
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// layered runs the rules about decorators, which follow from registrations and hand-outs.
type layered struct {
	world *ledger.World
	out   Reporter
	known *Shared
	// inferred is what was seen to wrap what, for services that declare nothing; false: something speaks against it.
	inferred map[[2]*ledger.Registration]bool
	doubled  map[doubledAs]*doubledSeen
	twices   []*doubledSeen

	// The latest holder, and how many of its own service it keeps, for the keepings that one line tells of.
	latest    *ledger.Instance `freeze:"-"`
	latestSeq int64            `freeze:"-"`
	sameN     int              `freeze:"-"`
	sameAll   bool             `freeze:"-"` // some of them were asked for among all

	// What follows from inferred, made anew for each judging: the wrapper of each inner one (the one registered last),
	// and which are layers.
	wrapper map[*ledger.Registration]*ledger.Registration
	isLayer map[*ledger.Registration]bool
}

// doubledAs is which layer, and which one further in, have one implementation.
type doubledAs struct {
	outer, inner *ledger.Registration
	impl         string
}

// doubledSeen is the first time that was seen.
type doubledSeen struct {
	holder, inner *ledger.Instance
	inferred      bool
}

func newLayered(e *Env) Watcher {
	return &layered{
		world: e.World, out: e.Out, known: e.Known, inferred: map[[2]*ledger.Registration]bool{}, doubled: map[doubledAs]*doubledSeen{},
	}
}

var bypassedRule = Rule{
	ID: "layers/bypassed", Severity: finding.Error, Basis: finding.Observed,
	Doc:  "Somebody who is no layer was given an instance that layers wrap: an error when it was asked for by the chain's own service and key, a warning when it was asked for in another way or is a copy of an inner layer registered beside the chain.",
	Not:  "The layers themselves; requests for all.",
	Sees: []ledger.Happening{ledger.Bound},
	New:  newLayered,
	Tell: func(f *finding.Finding) {
		who := "Somebody"
		if f.Holder != nil {
			who = f.Holder.Name()
		}
		f.Title = sentence("%s goes round the layers of %s%s", who, f.Subject.Name(), inferredWord(f))
		f.Why = sentence("%s was given %s %s itself; what its layers do (%s) does not happen for it.", who, f.Subject.Impl(), times(f.Counts["instances"]), list(f.Facts["layers"]))
		f.Fix = sentence("Let %s ask for %s, so that the outermost layer answers%s.", who, f.Subject.Name(), place(f.Subject))
	},
}

var brokenRule = Rule{
	ID: "layers/broken", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A layer was given an instance of its service and key from another registration than the one it wraps.",
	Not:   "Instances of itself, for which layers/self speaks; requests for all.",
	Needs: ledger.SeesWith,
	New:   nothing,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s wraps something else than it is registered to", f.Subject.Name())
		f.Why = sentence("%s is registered to wrap %s and was given %s: a layer is skipped, or they stand in another order.", f.Subject.Impl(), list(f.Facts["registered"]), list(f.Facts["given"]))
		f.Fix = sentence("Give %s%s what it wraps, or register the order that is meant.", f.Subject.Impl(), place(f.Subject))
	},
}

var selfRule = Rule{
	ID: "layers/self", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A layer was given itself or an instance of its own registration, or building a service that has layers came round in a circle.",
	Not: "Layers of one service that wrap each other in a line.",
	New: nothing,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s wraps itself", f.Subject.Name())
		f.Why = sentence("%s asks for the service it decorates and is answered by itself instead of by what it wraps.", implOr(f.Subject))
		f.Fix = sentence("Let %s%s ask for what it wraps: by its key, its own name, or the container's way of decorating.", implOr(f.Subject), place(f.Subject))
	},
}

var doubledRule = Rule{
	ID: "layers/doubled", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "One implementation stands twice in one observed chain of layers.",
	Not: "Chains whose implementations are not known.",
	New: nothing,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s wraps %s twice%s", f.Subject.Impl(), f.Subject.Name(), inferredWord(f))
		f.Why = sentence("It stands twice in one chain, so what it does happens twice for each call.")
		f.Fix = sentence("Register %s%s as a layer once.", f.Subject.Impl(), place(f.Subject))
	},
}

var unevenRule = Rule{
	ID: "layers/uneven", Severity: finding.Note, Basis: finding.Declared,
	Doc: "A layer lives shorter than what it wraps, so what it remembers is lost each time.",
	Not: "A layer that lives longer than what it wraps: that is a captive.",
	New: nothing,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s, %s, lives shorter than what it wraps", f.Subject.Name(), implOr(f.Subject))
		f.Why = sentence("The layer is %s and what it wraps is %s: whatever the layer remembers is gone when it is built anew.", list(f.Facts["layer"]), list(f.Facts["wrapped"]))
		f.Fix = sentence("Give %s%s the lifetime of what it wraps if it remembers anything.", implOr(f.Subject), place(f.Subject))
	},
}

var keyLeftOutRule = Rule{
	ID: "layers/key-left-out", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "One key of a service has layers, and another one was handed out that has none.",
	Not: "What a layer wraps; layers of the service; requests for all.",
	New: nothing,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s has no layers, although %s has", f.Subject.Name(), list(f.Facts["layered"]))
		f.Why = sentence("It was handed out %s without any; what the layers of the other key do does not happen for it.", times(f.Counts["instances"]))
		f.Fix = sentence("Decorate %s%s as well, if its callers count on what the layers do.", f.Subject.Name(), place(f.Subject))
	},
}

func inferredWord(f *finding.Finding) string {
	if len(f.Facts["inferred"]) > 0 {
		return " (layers inferred from what was built)"
	}
	return ""
}

func implOr(r finding.Ref) string {
	if impl := r.Impl(); impl != "" {
		return impl
	}
	return r.Name()
}

// See infers layers where nothing declares them, and looks for an implementation that stands twice.
func (r *layered) See(c *ledger.Change) {
	if c.Holder == nil || c.Holder.Reg == nil || c.Inst.Reg == nil || !c.Holder.Reg.Known || !c.Inst.Reg.Known {
		return
	}
	h, d := c.Holder, c.Inst
	if h.Reg == d.Reg || h.Reg.Service != d.Reg.Service || h.Reg.Internal || d.Reg.Internal {
		return
	}
	first := r.latest != h || r.latestSeq != r.world.Seq
	if first {
		r.same(h)
	}
	n, all := r.sameN, r.sameAll
	pair := [2]*ledger.Registration{h.Reg, d.Reg.Real()}
	if good, seen := r.inferred[pair]; (!seen || good) && h.Sees(r.world)&ledger.SeesWith != 0 {
		r.inferred[pair] = n == 1 && !all
	}
	if first {
		r.twice(h)
	}
}

// same counts what h keeps of its own service.
func (r *layered) same(h *ledger.Instance) {
	r.latest, r.latestSeq, r.sameN, r.sameAll = h, r.world.Seq, 0, false
	r.world.Step(len(h.Keeps))
	for k := range h.Keeps {
		if e := &h.Keeps[k]; e.Kept != nil && e.Kept.Reg != nil && e.Kept.Reg.Service == h.Reg.Service {
			r.sameN++
			r.sameAll = r.sameAll || e.All
			if need := h.Reg.AskedAt(int(e.Slot)); e.Slot >= 0 && need != nil && need.All {
				r.sameAll = true
			}
		}
	}
}

// twice walks the observed chain inwards from h.
func (r *layered) twice(h *ledger.Instance) {
	impls := map[string]bool{h.Impl(): true}
	inferred := false
	for at, steps := h, 0; steps < maxSteps; steps++ {
		var inner *ledger.Instance
		for n := range at.Keeps {
			k := at.Keeps[n].Kept
			if k == nil || k.Reg == nil {
				continue
			}
			wrapped := at.Reg.Inner()
			if wrapped != nil && k.Reg.Real() == wrapped {
				inner = k
			} else if wrapped == nil && r.inferred[[2]*ledger.Registration{at.Reg, k.Reg.Real()}] {
				inner, inferred = k, true
			}
		}
		if inner == nil {
			return
		}
		impl := inner.Impl()
		if impl != "" && impls[impl] {
			as := doubledAs{h.Reg, inner.Reg, impl}
			if r.doubled[as] == nil && len(r.twices) < maxCandidates {
				r.doubled[as] = &doubledSeen{h, inner, inferred}
				r.twices = append(r.twices, r.doubled[as])
			}
			return
		}
		impls[impl] = true
		at = inner
	}
}

// sayTwice reports what stands twice in a chain, once for each chain. Which registration is the outermost, and whether
// anything declares layers of the service, is only clear when all is registered.
func (r *layered) sayTwice(g *ledger.Wiring) {
	said := map[*ledger.Registration]bool{}
	for _, d := range r.twices {
		outer := g.Outermost(d.holder.Reg)
		if said[outer] || d.inferred && g.Declares(d.holder.Reg.Service) {
			continue
		}
		said[outer] = true
		r.out.Report(Occurrence{
			Rule: &doubledRule, Subject: chainRef(outer, d.inner), Scope: d.holder.Scope, Insts: []*ledger.Instance{d.inner, d.holder},
			Roles: []string{"kept", "holder"}, Line: d.holder.MadeLine, T: d.holder.Made,
		}).Count("instances", 1)
	}
}

// chainRef names a chain by its outermost registration, with a layer's implementation.
func chainRef(outer *ledger.Registration, i *ledger.Instance) finding.Ref {
	ref := outer.Ref(i.Impl())
	ref.At = finding.Text(i.Reg.At)
	return ref
}

// outer returns what surrounds a registration: declared, or inferred where the service declares nothing.
func (r *layered) outer(g *ledger.Wiring, reg *ledger.Registration) (outermost *ledger.Registration, wrappers []*ledger.Registration, inferred bool) {
	at := reg
	for range 32 {
		next := g.Wrappers(at)
		if len(next) == 0 {
			break
		}
		wrappers = append(wrappers, next...)
		at = next[len(next)-1]
	}
	if len(wrappers) > 0 || g.Declares(reg.Service) {
		return at, wrappers, false
	}
	for range 32 {
		next := r.wrapper[at]
		if next == nil || next == reg {
			break
		}
		wrappers = append(wrappers, next)
		at = next
	}
	return at, wrappers, true
}

// index sorts what was inferred, so that asking for it does not mean looking through all of it.
func (r *layered) index() {
	r.wrapper, r.isLayer = map[*ledger.Registration]*ledger.Registration{}, map[*ledger.Registration]bool{}
	place := make(map[*ledger.Registration]int, len(r.world.Registrations()))
	for n, reg := range r.world.Registrations() {
		place[reg] = n
	}
	for pair, good := range r.inferred {
		if !good {
			continue
		}
		r.isLayer[pair[0]] = true
		if known := r.wrapper[pair[1]]; known == nil || place[pair[0]] > place[known] {
			r.wrapper[pair[1]] = pair[0]
		}
	}
}

func (r *layered) Judge() {
	g := r.world.Wiring()
	r.index()
	r.sayTwice(g)
	layeredServices := map[string]*ledger.Registration{} // by service: the outermost of a chain
	inner := map[string][]*ledger.Registration{}         // by implementation: inner layers
	for _, reg := range r.world.Registrations() {
		if !reg.Known || reg.Internal {
			continue
		}
		if outermost, wrappers, _ := r.outer(g, reg); len(wrappers) > 0 {
			layeredServices[outermost.Service] = outermost
		}
		if in := reg.Inner(); in != nil && in.Known {
			r.uneven(g, reg, in)
		}
	}
	for _, h := range r.known.handouts.list {
		if h.given == nil || !h.given.Known || h.given.Internal {
			continue
		}
		if _, wrappers, _ := r.outer(g, h.given.Real()); len(wrappers) > 0 {
			if impl := h.implementation(); impl != "" {
				inner[impl] = append(inner[impl], h.given.Real())
			}
		}
	}
	for _, reg := range r.world.Registrations() {
		if reg.Known && reg.Impl != "" && len(g.Wrappers(reg)) > 0 {
			inner[reg.Impl] = append(inner[reg.Impl], reg)
		}
	}
	for _, h := range r.known.handouts.list {
		if !h.known() || h.given.Internal {
			continue
		}
		r.judge(g, h, layeredServices, inner)
	}
}

func (r *layered) judge(g *ledger.Wiring, h *seenHandout, services map[string]*ledger.Registration, inner map[string][]*ledger.Registration) {
	given := h.given.Real()
	outermost, wrappers, inferred := r.outer(g, given)
	if h.consumer != nil {
		own := h.consumer.Inner()
		switch {
		case own != nil && !h.forAll() && (given == h.consumer || given == g.Outermost(h.consumer) && sameName(h, h.consumer)):
			if given != own {
				r.self(g, h)
				return
			}
		case own != nil && given != own && !h.forAll() && sameName(h, h.consumer):
			r.broken(g, h, own)
			return
		}
	}
	if h.forAll() {
		return
	}
	if len(wrappers) > 0 {
		for _, w := range wrappers {
			if w == h.consumer {
				return
			}
		}
		if h.consumer != nil && (h.consumer == given || given.Within(h.consumer)) {
			return // an inner layer of the same chain
		}
		severity := finding.Warning
		if h.asks() == outermost.Asked() {
			severity = finding.Error
		}
		r.bypassed(h, outermost, wrappers, severity, inferred)
		return
	}
	// A registration beside the chain with an inner layer's implementation goes round it as well.
	if given.Inner() == nil && !r.anyInferred(given) {
		for _, in := range inner[h.implementation()] {
			if in == given || in == h.consumer {
				continue
			}
			outermost, wrappers, inferred := r.outer(g, in)
			own := false
			for _, w := range wrappers {
				own = own || w == h.consumer || w == given
			}
			if !own && len(wrappers) > 0 {
				r.bypassed(h, outermost, wrappers, finding.Warning, inferred)
				return
			}
		}
	}
	if outer := services[given.Service]; outer != nil && given.Inner() == nil && !r.anyInferred(given) &&
		(outer.HasKey != given.HasKey || outer.Key != given.Key) && (h.consumer == nil || h.consumer.Service != given.Service || h.consumer.Inner() == nil) {
		_, wraps, _ := r.outer(g, given)
		if len(wraps) == 0 && !r.layerOf(h.consumer, given.Service) {
			r.leftOut(h, given, outer)
		}
	}
}

// anyInferred tells whether reg is a layer by inference.
func (r *layered) anyInferred(reg *ledger.Registration) bool {
	return r.isLayer[reg] && !r.world.Wiring().Declares(reg.Service)
}

func (r *layered) layerOf(consumer *ledger.Registration, service string) bool {
	return consumer != nil && consumer.Service == service && (consumer.Inner() != nil || r.anyInferred(consumer))
}

// sameName tells whether a hand-out is of the layer's own service and key, as asked or as registered.
func sameName(h *seenHandout, layer *ledger.Registration) bool {
	a := h.asks()
	return a == layer.Asked() || h.given.Asked() == layer.Asked()
}

func (r *layered) bypassed(h *seenHandout, outermost *ledger.Registration, wrappers []*ledger.Registration, severity finding.Severity, inferred bool) {
	subject := outermost.Real().Ref(h.implementation())
	subject.At = finding.Text(h.given.At)
	found := h.report(r.out, Occurrence{Rule: &bypassedRule, Severity: severity, Subject: subject, Holder: h.who()})
	for _, w := range wrappers {
		found.Fact("layers", implOr(w.Ref("")))
	}
	if inferred {
		found.Fact("inferred", "yes")
	}
}

func (r *layered) broken(g *ledger.Wiring, h *seenHandout, own *ledger.Registration) {
	if h.consumer.Sees&ledger.SeesWith == 0 {
		return
	}
	outer := g.Outermost(h.consumer)
	subject := outer.Ref(h.consumer.Impl)
	subject.At = finding.Text(h.consumer.At)
	found := h.report(r.out, Occurrence{Rule: &brokenRule, Subject: subject})
	found.Fact("registered", implOr(own.Ref("")))
	found.Fact("given", h.implementation())
}

func (r *layered) self(g *ledger.Wiring, h *seenHandout) {
	subject := g.Outermost(h.consumer).Ref(h.consumer.Impl)
	subject.At = finding.Text(h.consumer.At)
	h.report(r.out, Occurrence{Rule: &selfRule, Subject: subject})
}

func (r *layered) leftOut(h *seenHandout, given, outer *ledger.Registration) {
	found := h.report(r.out, Occurrence{Rule: &keyLeftOutRule, Subject: given.Ref(h.implementation()), Holder: h.who()})
	found.Fact("layered", outer.Ref("").Name())
}

// span orders lifetimes by how long they live.
func span(l ledger.Lifetime) int {
	switch {
	case l.Long():
		return 3
	case l == ledger.Scoped:
		return 2
	case l == ledger.Transient:
		return 1
	}
	return 0
}

func (r *layered) uneven(g *ledger.Wiring, layer, inner *ledger.Registration) {
	a, b := span(layer.Lifetime), span(inner.Lifetime)
	if a == 0 || b == 0 || a >= b {
		return
	}
	subject := g.Outermost(layer).Ref(layer.Impl)
	subject.At = finding.Text(layer.At)
	found := r.out.Report(Occurrence{Rule: &unevenRule, Subject: subject, Line: layer.Line, T: layer.T})
	found.Count("registrations", 1)
	found.Fact("layer", string(layer.Lifetime))
	found.Fact("wrapped", string(inner.Lifetime))
}
