package contract

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/patterns"
)

// scopes: at least so many of a name were recorded.
func (v *verdict) scopes() {
	n := int64(0)
	for _, c := range v.j.s.Costs {
		if c.Kind != "root" && v.j.fits(v.c, v.c.Scope, c.Name) {
			n += c.Scopes
		}
	}
	for _, o := range v.j.s.Open {
		if v.j.fits(v.c, v.c.Scope, o.Name) {
			n++
		}
	}
	v.seen = n
	v.why = finding.Count(n, "scope was recorded", "scopes were recorded") + "."
	if n < v.c.AtLeast {
		v.broken(nil, nil, 0, "%s, and at least %d were to be", finding.Count(n, "scope was recorded", "scopes were recorded"), v.c.AtLeast)
	}
}

// wiring: who is given what.
func (v *verdict) wiring() {
	c, s := v.c, v.j.s
	if !s.WithSeen {
		v.why = "This recorder does not see who is given what."
		return
	}
	for n := range s.Handouts {
		h := &s.Handouts[n]
		if !v.concerns(s, h) {
			continue
		}
		v.seen += h.Count
		if wrong := v.misgiven(s, h); wrong != "" {
			v.broken(refOf(s, h.Given, h.Impl, h.Asked), holderOf(s, h), h.Count, "%s is given %s (%s)", v.j.short(consumerOf(s, h)), wrong, finding.Count(h.Count, "time", "times"))
		}
	}
	for n := range s.Failures {
		f := &s.Failures[n]
		if f.Optional || !v.j.is(c, "service", c.Service, f.Asked.Service) || !v.j.key(c.Key, f.Asked.Key) || !v.consumes(s, f.Consumer, "", "") {
			continue
		}
		v.seen += f.Count
		v.broken(&finding.Ref{Service: f.Asked.Service, Key: f.Asked.Key}, refOf(s, f.Consumer, "", derive.Name{}), f.Count, "It was asked for in vain %s (%s)", finding.Count(f.Count, "time", "times"), f.Why)
	}
	v.why = "It was handed out " + finding.Count(v.seen, "time", "times") + "."
	if v.seen == 0 {
		v.why = "No consumer was given it in this recording."
	}
	if len(v.breaks) > 0 {
		v.examples(func(s *derive.State, h *derive.Handout) bool { return v.concerns(s, h) && v.misgiven(s, h) != "" })
	}
}

// examples gathers instances of the hand-outs, of each stream, that something holds for.
func (v *verdict) examples(of func(*derive.State, *derive.Handout) bool) {
	for n := range v.j.src.Streams {
		s := v.j.src.Streams[n].State()
		if !v.j.affords(v.c, stepsEach*int64(len(s.Handouts))) {
			return
		}
		for k := range s.Handouts {
			if h := &s.Handouts[k]; of(s, h) && len(v.insts) < 2*finding.MaxExamples {
				for _, i := range h.Instances[:min(2, len(h.Instances))] {
					if e := (evidence{n, i}); !slices.Contains(v.insts, e) {
						v.insts = append(v.insts, e)
					}
				}
			}
		}
	}
}

// concerns reports whether a hand-out is one that the clause is about. What a layer is given to wrap is not an answer to a consumer.
func (v *verdict) concerns(s *derive.State, h *derive.Handout) bool {
	if h.All || !v.j.is(v.c, "service", v.c.Service, h.Asked.Service) || !v.j.key(v.c.Key, h.Asked.Key) || !v.consumes(s, h.Consumer, h.Direct, h.Entry) {
		return false
	}
	if h.Given >= 0 && s.Registrations[h.Given].Internal {
		return false
	}
	if h.Consumer < 0 || h.Given < 0 {
		return true
	}
	a, b := &s.Registrations[h.Consumer], &s.Registrations[h.Given]
	return a.Wraps != h.Given && !(v.c.Consumer == "" && a.Service == b.Service && (a.Key == nil) == (b.Key == nil))
}

func (v *verdict) consumes(s *derive.State, consumer int, direct, entry string) bool {
	c := v.c
	if c.Consumer == "" {
		return true
	}
	if consumer >= 0 {
		r := &s.Registrations[consumer]
		return v.j.is(c, "consumer", c.Consumer, r.Impl) || v.j.is(c, "service", c.Consumer, r.Service)
	}
	return direct != "" && v.j.is(c, "consumer", c.Consumer, direct) || entry != "" && patterns.Glob(c.Consumer, entry)
}

// misgiven returns what a consumer is given if that breaks the clause, else "".
func (v *verdict) misgiven(s *derive.State, h *derive.Handout) string {
	c := v.c
	chains := h.Chains
	if len(chains) == 0 {
		chains = []derive.Chain{{Layers: []derive.Layer{{Reg: h.Given, Impl: h.Impl}}}}
	}
	for _, chain := range chains {
		last := len(chain.Layers) - 1
		if c.Implementation != "" && !v.j.is(c, "implementation", c.Implementation, chain.Layers[last].Impl) {
			return v.j.chain(chain)
		}
		if !c.HasLayers {
			continue
		}
		if last != len(c.Layers) {
			return v.j.chain(chain)
		}
		for n, want := range c.Layers {
			if !v.j.is(c, "implementation", want, chain.Layers[n].Impl) {
				return v.j.chain(chain)
			}
		}
	}
	return ""
}

func (j *court) chain(c derive.Chain) string {
	last := len(c.Layers) - 1
	text := cmp.Or(j.short(c.Layers[last].Impl), "something without a name")
	if last == 0 {
		return text + " without layers"
	}
	names := make([]string, last)
	for n := range last {
		names[n] = j.short(c.Layers[n].Impl)
	}
	return text + " through " + strings.Join(names, ", ")
}

func consumerOf(s *derive.State, h *derive.Handout) string {
	switch {
	case h.Consumer >= 0:
		return cmp.Or(s.Registrations[h.Consumer].Impl, s.Registrations[h.Consumer].Service)
	case h.Direct != "":
		return h.Direct
	case h.Entry != "":
		return "a " + h.Entry
	}
	return "code that asks the container"
}

func holderOf(s *derive.State, h *derive.Handout) *finding.Ref {
	if h.Consumer >= 0 {
		return refOf(s, h.Consumer, "", derive.Name{})
	}
	if h.Direct != "" {
		return &finding.Ref{Service: h.Direct, Implementation: finding.Text(h.Direct)}
	}
	return nil
}

func refOf(s *derive.State, reg int, impl string, asked derive.Name) *finding.Ref {
	if reg < 0 {
		if impl == "" && asked.Service == "" {
			return nil
		}
		return &finding.Ref{Service: cmp.Or(asked.Service, impl), Key: asked.Key, Implementation: finding.Text(impl)}
	}
	r := s.Registrations[reg].Ref()
	return &r
}

// behaviours are which lifetimes what was observed fits.
var behaviours = map[string][]string{
	derive.BehavedContainer: {"singleton", "external"},
	derive.BehavedScope:     {"scoped"},
	derive.BehavedConsumer:  {"per-consumer"},
	derive.BehavedRequest:   {"transient"},
	derive.BehavedOnce:      {"scoped", "transient"},
	derive.BehavedMixed:     {},
}

// lifetimes: as registered, and as behaved.
func (v *verdict) lifetimes() {
	c, s := v.c, v.j.s
	regs := v.j.registrations(c)
	v.why = "Nothing of this name is registered in this recording."
	behaved := int64(0)
	for _, n := range regs {
		r := &s.Registrations[n]
		v.seen++
		if c.Registered != "" && r.Lifetime != c.Registered {
			v.broken(refOf(s, n, "", derive.Name{}), nil, r.Made, "%s is registered as %s", v.j.short(r.Service), r.Lifetime)
		}
		like, known := behaviours[r.Verdict.As]
		if c.Behaves == "" || !known {
			continue
		}
		behaved++
		if !slices.Contains(like, c.Behaves) {
			v.broken(refOf(s, n, "", derive.Name{}), nil, r.Made, "%s behaved as %s: %s", v.j.short(r.Service), r.Verdict.As, strings.TrimRight(r.Verdict.Why, "."))
		}
	}
	if len(regs) > 0 {
		v.why = "Registered so."
		if c.Behaves != "" && behaved == 0 {
			v.seen, v.why = 0, "It was not used in a way that shows how it behaves."
		} else if c.Behaves != "" {
			v.why = "It behaved so."
		}
	}
	if len(v.breaks) > 0 {
		v.examples(func(s *derive.State, h *derive.Handout) bool {
			return h.Given >= 0 && v.subject != nil && s.Registrations[h.Given].Service == v.subject.Service && s.Registrations[h.Given].At == v.subject.Place()
		})
	}
}

// disposal: whether, and by whom.
func (v *verdict) disposal() {
	c, s := v.c, v.j.s
	if !s.DisposalSeen {
		v.why = "This recorder does not see disposals."
		return
	}
	v.why = "None of it was built in this recording."
	ended := int64(0)
	for _, n := range v.j.registrations(c) {
		r := &s.Registrations[n]
		ref := refOf(s, n, "", derive.Name{})
		ended += r.Ended
		if r.Made > 0 {
			v.why = "None of it has ended yet."
		}
		if c.Disposed == "always" && r.Undisposed > 0 {
			v.broken(ref, nil, r.Undisposed, "%s of %s ended without being disposed", finding.Count(r.Undisposed, "instance", "instances"), v.j.short(r.Service))
		} else if c.Disposed == "always" && r.Ended > 0 && r.Disposed == 0 {
			v.broken(ref, nil, r.Ended, "%s of %s ended, and there is nothing to dispose in them", finding.Count(r.Ended, "instance", "instances"), v.j.short(r.Service))
		}
		if c.Disposed == "never" && r.Disposed > 0 {
			v.broken(ref, nil, r.Disposed, "%s of %s were disposed", finding.Count(r.Disposed, "instance", "instances"), v.j.short(r.Service))
		}
		if c.By == "container" && r.ByCode > 0 {
			v.broken(ref, nil, r.ByCode, "code disposed %s of %s", finding.Count(r.ByCode, "instance", "instances"), v.j.short(r.Service))
		}
		if by := r.Disposed - r.ByCode; c.By == "code" && by > 0 {
			v.broken(ref, nil, by, "the container disposed %s of %s", finding.Count(by, "instance", "instances"), v.j.short(r.Service))
		}
		v.seen += r.Disposed
		if c.Disposed == "never" {
			v.seen += r.Ended
		}
	}
	if v.seen > 0 {
		v.why = finding.Count(v.seen, "instance", "instances") + " ended so."
	}
	if len(v.breaks) > 0 {
		v.ofFindings()
	}
}

// ofFindings takes the examples of findings about the same disposal.
func (v *verdict) ofFindings() {
	for _, f := range v.j.src.Result.Findings {
		if !strings.HasPrefix(f.Rule, "disposal/") || v.subject == nil || f.Subject.Name() != v.subject.Name() {
			continue
		}
		for _, x := range f.Examples {
			for n := range v.j.src.Streams {
				if v.j.src.Streams[n].Head.Stream == x.Stream && len(x.Instances) > 0 {
					v.insts = append(v.insts, evidence{n, x.Instances[0]})
				}
			}
		}
	}
}

// limits: how much of something there may be.
func (v *verdict) limits() {
	c, s := v.c, v.j.s
	v.why = "Nothing of it was recorded."
	if c.Open > 0 {
		for _, cost := range s.Costs {
			if cost.Kind == "root" || !v.j.fits(c, c.Scope, cost.Name) {
				continue
			}
			v.most(cost.Most)
			if cost.Most > c.Open {
				v.broken(&finding.Ref{Service: cost.Name}, nil, 0, "%d of %s were open at once", cost.Most, cost.Name)
			}
		}
		return
	}
	regs := v.j.registrations(c)
	for _, n := range regs {
		r := &s.Registrations[n]
		if c.Alive == 0 || r.Made == 0 {
			continue
		}
		v.most(r.Most)
		if r.Most > c.Alive {
			v.broken(refOf(s, n, "", derive.Name{}), nil, r.Most, "%d of %s were alive at once", r.Most, v.j.short(r.Service))
		}
	}
	if c.Instances == 0 && c.Construction == 0 {
		return
	}
	for _, cost := range s.Costs {
		if cost.Kind == "root" || c.Scope != "" && !v.j.fits(c, c.Scope, cost.Name) {
			continue
		}
		for k := range cost.Regs {
			one := &cost.Regs[k]
			if !slices.Contains(regs, one.Reg) {
				continue
			}
			ref := refOf(s, one.Reg, "", derive.Name{})
			if c.Instances > 0 {
				v.most(one.Most.N)
				if one.Most.N > c.Instances {
					v.broken(ref, nil, one.Most.N, "%d of %s were built in one %s", one.Most.N, v.j.short(ref.Service), cost.Name)
					v.at = append(v.at, one.Most)
				}
			}
			if c.Construction > 0 {
				v.seen += one.Made
				v.why = fmt.Sprintf("It took %s at most.", took(max(one.MostTook.N, 0)))
				if one.MostTook.N > c.Construction.Nanoseconds() {
					v.broken(ref, nil, one.Made, "constructing %s took %s in one %s", v.j.short(ref.Service), took(one.MostTook.N), cost.Name)
					v.at = append(v.at, one.MostTook)
				}
			}
		}
	}
}

func (v *verdict) most(n int64) {
	v.seen++
	v.why = fmt.Sprintf("There were %d at most.", n)
}

func took(ns int64) string {
	d := time.Duration(ns)
	switch {
	case d > time.Second:
		return d.Round(time.Millisecond).String()
	case d > time.Millisecond:
		return d.Round(time.Microsecond).String()
	}
	return d.String()
}

// never: what must not be handed out.
func (v *verdict) never() {
	c, s := v.c, v.j.s
	if !In(c.Environments, s.Environment) {
		v.seen, v.why = 1, "It is not excluded in "+cmp.Or(s.Environment, "an environment without a name")+"."
		return
	}
	if !s.WithSeen {
		v.why = "This recorder does not see who is given what."
		return
	}
	holds := func(s *derive.State, h *derive.Handout) bool {
		if v.j.is(c, "implementation", c.Implementation, h.Impl) {
			return true
		}
		return slices.ContainsFunc(h.Chains, func(chain derive.Chain) bool {
			return slices.ContainsFunc(chain.Layers, func(l derive.Layer) bool { return v.j.is(c, "implementation", c.Implementation, l.Impl) })
		})
	}
	for n := range s.Handouts {
		h := &s.Handouts[n]
		v.seen += h.Count
		if holds(s, h) {
			v.broken(refOf(s, h.Given, h.Impl, h.Asked), holderOf(s, h), h.Count, "%s is given it (%s)", v.j.short(consumerOf(s, h)), finding.Count(h.Count, "time", "times"))
		}
	}
	v.why = "It was not among what was handed out."
	if v.seen == 0 {
		v.why = "Nothing was handed out in this recording."
	}
	if len(v.breaks) > 0 {
		v.examples(holds)
	}
}
