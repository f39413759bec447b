package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// layered runs the rules about decorators, which follow from registrations and hand-outs.
type layered struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	set   *Settings
	// What stood twice in an observed chain, the first time for each.
	doubled map[doubledAs]*doubledSeen
	twices  []*doubledSeen

	latest    *ledger.Instance `freeze:"-"` // the latest holder, whose chain was inspected
	latestSeq int64            `freeze:"-"`
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
	return &layered{facts: e.Facts, world: e.World, out: e.Out, set: e.Set, doubled: map[doubledAs]*doubledSeen{}}
}

var bypassedRule = Rule{
	ID: "layers/bypassed", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A consumer that is no layer was given an instance that layers wrap: an error when it was asked for by the chain's own service and key, a warning when it was asked for in another way or is a copy of an inner layer registered beside the chain.",
	Not: "The layers themselves; requests for all; those outside the part of the application in which a layer applies.",
	Tell: func(f *finding.Finding) {
		who := "A consumer"
		if f.Holder != nil {
			who = f.Holder.Name()
		}
		f.Title = sentence("%s bypasses the decorators of %s%s", who, f.Subject.Name(), inferredWord(f))
		f.Why = sentence("%s was given %s itself, %s; its decorators (%s) are skipped.", who, implOr(f.Subject), times(f.Counts["instances"]), list(f.Facts["layers"]))
		if f.Severity == finding.Error {
			// It did ask by that name: what is wrong is what answered.
			f.Fix = sentence("See that a request for %s is answered by its outermost layer, not by %s%s.", f.Subject.Name(), implOr(f.Subject), place(f.Subject))
			return
		}
		f.Fix = sentence("Let %s ask for %s, so that its outermost layer answers, instead of for %s%s.", strings.ToLower(who[:1])+who[1:], f.Subject.Name(), implOr(f.Subject), place(f.Subject))
		if f.Holder != nil {
			f.Fix = sentence("Let %s ask for %s, so that its outermost layer answers, instead of for %s%s.", who, f.Subject.Name(), implOr(f.Subject), place(f.Subject))
		}
	},
}

var brokenRule = Rule{
	ID: "layers/broken", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A layer was given an instance of its service and key from another registration than the one it wraps.",
	Not:   "Instances of itself, for which layers/self speaks; requests for all.",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s wraps something else than it is registered to", f.Subject.Name())
		f.Why = sentence("%s is registered to wrap %s and was given %s: a layer is skipped, or they stand in another order.", implOr(f.Subject), list(f.Facts["registered"]), list(f.Facts["given"]))
		f.Fix = sentence("Give %s%s what it is registered to wrap, or register the order that is meant.", implOr(f.Subject), place(f.Subject))
	},
}

var selfRule = Rule{
	ID: "layers/self", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A layer was given itself or an instance of its own registration, or building a service that has layers came round in a circle.",
	Not: "Layers of one service that wrap each other in a line.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s wraps itself", f.Subject.Name())
		f.Why = sentence("%s asks for the service it decorates and is given an instance of its own registration instead of what it wraps.", implOr(f.Subject))
		if way := f.Facts["way"]; len(way) > 0 {
			f.Why = sentence("Building it is circular: %s. One of these asks for the service that the layer decorates, and the layer answers.", strings.Join(append(way, way[0]), " → "))
		}
		f.Fix = sentence("Let %s%s ask for what it wraps: by its key, its own name, or the container's way of decorating.", implOr(f.Subject), place(f.Subject))
	},
}

var doubledRule = Rule{
	ID: "layers/doubled", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "One implementation stands twice in one observed chain of layers.",
	Not: "Chains whose implementations are not known; a decorator that gives a copy of what it wraps, of the same implementation, such as a logger with a name added.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s is applied twice in the layers of %s%s", implOr(f.Subject), f.Subject.Name(), inferredWord(f))
		f.Why = sentence("It is in one chain twice, so its effect happens twice for each call.")
		f.Fix = sentence("Register %s%s as a layer once.", implOr(f.Subject), place(f.Subject))
	},
}

var unevenRule = Rule{
	ID: "layers/uneven", Severity: finding.Note, Basis: finding.Declared,
	Doc: "A layer lives shorter than what it wraps, so what it remembers is lost each time.",
	Not: "A layer that lives longer than what it wraps: that is a captive.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("A layer of %s, %s, lives shorter than what it wraps%s", f.Subject.Name(), implOr(f.Subject), inferredWord(f))
		f.Why = sentence("The layer is %s and what it wraps is %s: the layer's state is lost whenever it is rebuilt.", list(f.Facts["layer"]), list(f.Facts["wrapped"]))
		f.Fix = sentence("Give %s%s the lifetime of what it wraps if it has state.", implOr(f.Subject), place(f.Subject))
	},
}

var keyLeftOutRule = Rule{
	ID: "layers/key-left-out", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "One key of a service has layers, and another one was handed out that has none.",
	Not: "What a layer wraps; layers of the service; requests for all; keys that need none by the settings (no_layers).",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s has no layers, although %s has", f.Subject.Name(), list(f.Facts["layered"]))
		f.Why = sentence("It was handed out %s without any; the other key's layers are skipped.", times(f.Counts["instances"]))
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

// See looks for an implementation that stands twice, once for each holder on a line.
func (r *layered) See(c *ledger.Change) {
	h := c.Holder
	if h == nil || h.Reg == nil || c.Inst.Reg == nil || !h.Reg.SameService(c.Inst.Reg) ||
		h.Reg.Internal || c.Inst.Reg.Internal || r.latest == h && r.latestSeq == r.world.Seq {
		return
	}
	r.latest, r.latestSeq = h, r.world.Seq
	r.twice(h)
}

// twice walks the observed chain inwards from h. Those next to its very bottom that have the implementation of that are copies of it, which
// decorators gave, and no layers that do something twice.
func (r *layered) twice(h *ledger.Instance) {
	layers := r.facts.Layers()
	chain := []*ledger.Instance{h}
	inferred := false
	for range maxLayers {
		inner, by := layers.Inner(chain[len(chain)-1])
		if inner == nil {
			break
		}
		inferred = inferred || by
		chain = append(chain, inner)
	}
	for len(chain) > 1 && chain[len(chain)-2].Impl() == chain[len(chain)-1].Impl() {
		chain = chain[:len(chain)-1]
	}
	first := map[string]bool{}
	var again *ledger.Instance
	for _, i := range chain {
		impl := i.Impl()
		if impl != "" && first[impl] {
			again = i
			break
		}
		first[impl] = true
	}
	if again == nil {
		return
	}
	as := doubledAs{h.Reg, again.Reg, again.Impl()}
	if r.doubled[as] == nil && len(r.twices) < maxCandidates {
		r.doubled[as] = &doubledSeen{h.Hold(), again.Hold(), inferred}
		r.twices = append(r.twices, r.doubled[as])
	}
}

// sayTwice reports what stands twice in a chain, once for each chain. Which registration is the outermost, and whether
// anything declares layers of the service, is only clear when all is registered.
func (r *layered) sayTwice(g *facts.Answers) {
	said := map[*ledger.Registration]bool{}
	for _, d := range r.twices {
		outer, _, _ := r.facts.Layers().Chain(d.holder.Reg)
		if said[outer] || d.inferred && g.Declares(d.holder.Reg.Service) {
			continue
		}
		said[outer] = true
		found := r.out.Report(Occurrence{
			Rule: &doubledRule, Subject: chainRef(outer, d.inner), Scope: d.holder.Scope, Insts: []*ledger.Instance{d.inner, d.holder},
			Roles: []string{"kept", "holder"}, Line: d.holder.MadeLine, T: d.holder.Made,
		})
		found.Count("instances", 1)
		if d.inferred {
			found.Fact("inferred", "yes")
		}
	}
}

// chainRef names a chain by its outermost registration, with a layer's implementation.
func chainRef(outer *ledger.Registration, i *ledger.Instance) finding.Ref {
	ref := outer.Ref(i.Impl())
	ref.At = finding.Text(i.Reg.At)
	return ref
}

// chainOf is chainRef for a layer of which only the registration is known.
func (r *layered) chainOf(layer *ledger.Registration) finding.Ref {
	outer, _, _ := r.facts.Layers().Chain(layer)
	subject := outer.Ref(r.facts.Built().Impl(layer))
	subject.At = finding.Text(layer.At)
	return subject
}

func (r *layered) Judge() {
	g, layers, built := r.facts.Answers(), r.facts.Layers(), r.facts.Built()
	r.sayTwice(g)
	outermost := map[layeredIn]*ledger.Registration{} // the outermost of a chain that applies everywhere
	inner := map[string][]*ledger.Registration{}      // by implementation: inner layers
	for _, reg := range r.world.Registrations() {
		if !reg.Known || reg.Internal {
			continue
		}
		if outer, wrappers, _ := layers.Chain(reg); len(wrappers) > 0 {
			if outer.In == nil && !outer.Local {
				outermost[layeredIn{outer.Container, outer.Service}] = outer
			}
			if impl := built.Impl(reg); impl != "" {
				inner[impl] = append(inner[impl], reg)
			}
		}
		if in := reg.Inner(); in != nil && in.Known {
			r.uneven(reg, in, false)
		}
		if around, inferred := layers.Around(reg); inferred {
			for _, layer := range around {
				r.uneven(layer, reg, true)
			}
		}
	}
	for _, h := range r.facts.Handouts().All() {
		if h.Known() && !h.Given.Internal {
			r.judge(h, outermost, inner)
		}
	}
}

// layeredIn is a service that has layers in a container.
type layeredIn struct {
	container *ledger.Container
	service   string
}

func (r *layered) judge(h *facts.Handout, services map[layeredIn]*ledger.Registration, inner map[string][]*ledger.Registration) {
	layers := r.facts.Layers()
	given, consumer := h.Given.Real(), h.By()
	if h.ForAll() {
		return
	}
	if consumer != nil && layers.IsLayer(consumer) {
		switch own := consumer.Inner(); {
		case given == consumer:
			reportHandout(h, r.out, Occurrence{Rule: &selfRule, Subject: r.chainOf(consumer)})
			return
		case own != nil && given != own && sameName(h, consumer):
			r.broken(h, consumer, own)
			return
		}
	}
	outer, wrappers, inferred := layers.Chain(given)
	if len(wrappers) > 0 {
		around := wrappers[:0:0]
		for _, w := range wrappers {
			if w == consumer {
				return
			}
			if applies(w, h) {
				around = append(around, w)
			}
		}
		if len(around) == 0 || consumer != nil && (consumer == given || layers.Wraps(given, consumer)) {
			return // outside the part in which they apply, or an inner layer of the same chain
		}
		if asked := h.Asks(); asked.Service != given.Service && goesBy(given, asked.Service) &&
			!slices.ContainsFunc(around, func(w *ledger.Registration) bool { return goesBy(w, asked.Service) }) {
			return // by a service for which it answers and that has no layers
		}
		severity := finding.Warning
		if h.Asks() == outer.Asked() {
			severity = finding.Error
		}
		r.bypassed(h, outer, around, severity, inferred)
		return
	}
	if layers.IsLayer(given) {
		return
	}
	// A registration beside the chain with an inner layer's implementation bypasses it as well.
	for _, in := range inner[h.Impl()] {
		if in == given || in == consumer || !facts.Reaches(given.Container, in.Container) {
			continue // what another container has registered is its own business
		}
		outer, wrappers, inferred := layers.Chain(in)
		own := false
		for _, w := range wrappers {
			own = own || w == consumer || w == given || !applies(w, h)
		}
		if !own && len(wrappers) > 0 {
			r.bypassed(h, outer, wrappers, finding.Warning, inferred)
			return
		}
	}
	asked := given.Asked()
	if a := h.Asks(); a != asked && slices.Contains(given.Names(), a) {
		asked = a // by one of its other names
	}
	var outside *ledger.Registration
	for c := given.Container; c != nil && outside == nil; c = c.Parent {
		outside = services[layeredIn{c, asked.Service}]
	}
	if outside != nil && !slices.Contains(outside.Names(), asked) && !r.set.needsNoLayers(given) &&
		(consumer == nil || consumer.Service != given.Service || !layers.IsLayer(consumer)) {
		subject := given.Ref(h.Impl())
		subject.Service, subject.Key = asked.Service, nil
		if asked.HasKey {
			subject.Key = &asked.Key
		}
		found := reportHandout(h, r.out, Occurrence{Rule: &keyLeftOutRule, Subject: subject, Holder: who(r.facts.Built(), h)})
		found.Fact("layered", outside.Ref("").Name())
	}
}

// goesBy reports whether a registration answers for a service, under any key.
func goesBy(reg *ledger.Registration, service string) bool {
	return slices.ContainsFunc(reg.Names(), func(n ledger.Asked) bool { return n.Service == service })
}

// applies reports whether a layer applies where a hand-out happened.
func applies(w *ledger.Registration, h *facts.Handout) bool {
	in := w.In
	lives := h.Lives()
	switch {
	case in == nil:
		return !w.Local || lives == nil || !lives.Root // what is registered on scopes is out of the root's reach
	case in.Container != nil:
		return h.From == nil || facts.Reaches(h.From, in.Container)
	case in.Module != "":
		return h.InModule(in.Module)
	}
	return lives != nil && lives.Within(in.ScopeKind) != nil
}

// sameName reports whether a hand-out is of the layer's own service and key, as asked or as registered.
func sameName(h *facts.Handout, layer *ledger.Registration) bool {
	a := h.Asks()
	return a == layer.Asked() || h.Given.Asked() == layer.Asked()
}

func (r *layered) bypassed(h *facts.Handout, outermost *ledger.Registration, wrappers []*ledger.Registration, severity finding.Severity, inferred bool) {
	subject := outermost.Real().Ref(h.Impl())
	subject.At = finding.Text(h.Given.At)
	found := reportHandout(h, r.out, Occurrence{Rule: &bypassedRule, Severity: severity, Subject: subject, Holder: who(r.facts.Built(), h)})
	for _, w := range wrappers {
		found.Fact("layers", implOr(named(r.facts.Built(), w)))
	}
	if inferred {
		found.Fact("inferred", "yes")
	}
}

func (r *layered) broken(h *facts.Handout, layer, own *ledger.Registration) {
	if layer.Sees&ledger.SeesWith == 0 {
		return
	}
	found := reportHandout(h, r.out, Occurrence{Rule: &brokenRule, Subject: r.chainOf(layer)})
	found.Fact("registered", implOr(named(r.facts.Built(), own)))
	found.Fact("given", implOr(h.Given.Ref(h.Impl())))
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

func (r *layered) uneven(layer, inner *ledger.Registration, inferred bool) {
	a, b := span(layer.Lifetime), span(inner.Lifetime)
	if a == 0 || b == 0 || a >= b {
		return
	}
	found := r.out.Report(Occurrence{Rule: &unevenRule, Subject: r.chainOf(layer), Line: layer.Line, T: layer.T})
	found.Count("registrations", 1)
	found.Fact("layer", string(layer.Lifetime))
	found.Fact("wrapped", string(inner.Lifetime))
	if inferred {
		found.Fact("inferred", "yes")
	}
}
