package rules

import (
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// captiveRoot reports captive/root: a scoped instance at home in the root, whatever keeps it, unless captive/scoped names its holder.
// Not: proxies, pooled instances, and what comes with another scoped instance of the root.
//
// It also reports captive/forwarder, which explains such instances: a registration of longer life that forwards to a scoped one.
type captiveRoot struct {
	facts      facts.Granted `freeze:"-"`
	out        Reporter
	world      *ledger.World
	known      *Shared
	candidates []*rootScoped
}

// rootScoped is a scoped instance at home in the root, and its hand-outs.
type rootScoped struct {
	inst   *ledger.Instance
	scopes int64              // other than roots, in which it was handed out
	to     []*ledger.Instance // that received it, one of each registration
	entry  []string           // entry points that received it
	asks   []rootAsk
}

// rootAsk is what was asked for when the instance was handed out.
type rootAsk struct {
	via   *ledger.Registration
	asked ledger.Asked
}

var captiveRootRule = Rule{
	ID: "captive/root", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A scoped registration's instance lives in the root, where every scope shares it: it was asked for outside any scope.",
	Not:   "One that a longer-lived holder keeps (captive/scoped), or that another scoped instance of the root was built with; a proxy; a pooled instance; one that a registration of longer life forwards to (captive/forwarder).",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		name, n := f.Subject.Name(), f.Counts["instances"]
		f.Title = sentence("%s is scoped, and was asked for outside any scope", name)
		f.Why = sentence("%s of %s%s %s in the root, where every later request for it outside a scope gets the same one and nothing ends it before the process does.",
			count(n, "instance", "instances"), name, implementedBy(f.Subject), plural(int(n), "lives", "live"))
		if later := f.Counts["later_scopes"]; later > 0 {
			f.Title = sentence("%s is scoped, and one instance of it serves every scope", name)
			f.Why += " " + sentence("%s handed out in %s%s.", plural(int(n), "It was", "They were"), count(later, "scope", "scopes"), receivers(f))
		}
		f.Fix = sentence("Open a scope where %s%s is asked for and ask in it, or register it as a singleton if one for the whole process is meant.", name, place(f.Subject))
	},
}

// receivers returns ", to A and B", or nothing where that is not known.
func receivers(f *finding.Finding) string {
	if to := f.Facts["handed_to"]; len(to) > 0 {
		return ", to " + list(to)
	}
	return ""
}

var captiveForwarderRule = Rule{
	ID: "captive/forwarder", Severity: finding.Error, Basis: finding.Declared,
	Doc: "A singleton, per-consumer or external registration forwards to a scoped one: its instance is kept for longer than the scope that it belongs to. A warning until an instance was handed out that way.",
	Not: "Aliases without a lifetime of their own; proxies; pooled instances.",
	Tell: func(f *finding.Finding) {
		name, target := f.Subject.Name(), f.Path[len(f.Path)-1]
		f.Title = sentence("%s, %s, forwards to %s, which is scoped", name, lifetimeOf(f.Subject), target.Name())
		f.Why = sentence("The registration of %s%s keeps what it hands out for as long as its container lives, and it hands out an instance of %s%s, which belongs to one scope.",
			name, place(f.Subject), target.Name(), place(target))
		if n := f.Counts["instances"]; n > 0 {
			f.Why += " " + sentence("%s of %s lived in the root and %s handed out in %s%s.", count(n, "instance", "instances"), target.Name(), plural(int(n), "was", "were"),
				count(f.Counts["later_scopes"], "scope", "scopes"), receivers(f))
		}
		f.Fix = sentence("Register %s%s as scoped, like %s that it forwards to.", name, place(f.Subject), target.Name())
	},
}

// The bounds of what is retained.
const (
	maxCandidates = 10_000 // that a rule judges at the end
	maxRootAsks   = 8      // of one instance of the root
	maxReceivers  = 12     // of one instance of the root
)

func (r *captiveRoot) See(c *ledger.Change) {
	i := c.Inst
	switch c.What {
	case ledger.Made, ledger.Settled:
		r.made(i)
	case ledger.Bound:
		if of, ok := i.Tag(captiveRootTag).(*rootScoped); ok && c.Edge != nil {
			ask := rootAsk{}
			if q := c.Edge.Request; q != nil {
				ask = rootAsk{q.Via, q.Asked}
			} else if c.Holder.Reg != nil && c.Edge.Slot >= 0 {
				if need := c.Holder.Reg.AskedAt(int(c.Edge.Slot)); need != nil {
					ask.asked = ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey}
				}
			}
			of.handedOut(c, "", ask)
		}
	case ledger.Given:
		if of, ok := i.Tag(captiveRootTag).(*rootScoped); ok && c.Event.Inst == i.ID {
			ask := rootAsk{asked: ledger.Asked{Service: c.Event.Service, Key: c.Event.Key, HasKey: c.Event.Key != ""}}
			if c.Event.Via != 0 {
				ask.via = r.world.Registration(c.Event.Via)
			}
			of.handedOut(c, c.Event.Entry, ask)
		}
	}
}

// made follows a scoped instance of the root, and one that may turn out to be.
func (r *captiveRoot) made(i *ledger.Instance) {
	unknown := i.Reg != nil && !i.Reg.Known && i.Home() == nil && i.Scope.Root
	scoped := i.Class() == ledger.ScopedClass && i.Home() != nil && i.Home() == i.Root() && !i.Proxy() && !i.Pooled()
	if !unknown && !scoped || i.Flagged(rootScopedFlag) || len(r.candidates) == maxCandidates {
		return
	}
	of := &rootScoped{inst: i.Hold()}
	i.SetFlag(rootScopedFlag)
	i.SetTag(captiveRootTag, of)
	r.candidates = append(r.candidates, of)
}

// handedOut notes a hand-out, and counts its scope once.
func (of *rootScoped) handedOut(c *ledger.Change, entry string, ask rootAsk) {
	if len(of.asks) < maxRootAsks && !slices.Contains(of.asks, ask) {
		of.asks = append(of.asks, ask)
	}
	if entry != "" && len(of.entry) < maxReceivers && !slices.Contains(of.entry, entry) {
		of.entry = append(of.entry, entry)
	}
	if h := c.Holder; h != nil && len(of.to) < maxReceivers && !slices.ContainsFunc(of.to, func(o *ledger.Instance) bool { return o.Reg == h.Reg && (h.Reg != nil || o.Impl() == h.Impl()) }) {
		of.to = append(of.to, h.Hold())
	}
	s := c.Scope
	if s == nil || s.Root {
		return
	}
	counted, _ := s.Tag(captiveRootTag).([]*rootScoped)
	if len(counted) < maxPairs && !slices.Contains(counted, of) {
		of.scopes++
		s.SetTag(captiveRootTag, append(counted, of))
	}
}

// tell adds what is known of the hand-outs to a finding.
func (of *rootScoped) tell(found Case) {
	found.Count("instances", 1)
	found.Count("later_scopes", of.scopes)
	for _, h := range of.to {
		found.Name("handed_to", h)
	}
	for _, entry := range of.entry {
		found.Fact("handed_to", entry)
	}
}

// Judge waits until all keepers are known.
func (r *captiveRoot) Judge() {
	through := map[*ledger.Registration][]*rootScoped{} // by the forwarder that handed them out
	for _, of := range r.candidates {
		i := of.inst
		if i.Class() != ledger.ScopedClass || i.Home() == nil || i.Home() != i.Root() || i.Proxy() || i.Pooled() {
			continue
		}
		if by := r.forwarder(of); by != nil {
			through[by] = append(through[by], of)
			continue
		}
		if i.Sees(r.world)&ledger.SeesWith == 0 || r.explained(i) {
			continue
		}
		of.tell(r.out.Report(Occurrence{
			Rule: &captiveRootRule, Subject: i.Ref(), Scope: i.Scope, Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made,
		}))
	}
	for _, by := range r.known.forwarders.all(r.world) {
		o := Occurrence{Rule: &captiveForwarderRule, Severity: finding.Warning, Line: by.Line, T: by.T}
		if r.known.forwarded[by] {
			o.Severity = finding.Error
		}
		o.Subject, o.Path = forwarderIdentity(by).Subject, forwarderIdentity(by).Path
		if len(through[by]) == 0 {
			r.out.Report(o).Count("registrations", 1)
			continue
		}
		o.Severity = finding.Error
		for _, of := range through[by] {
			o.Scope, o.Insts, o.Line, o.T = of.inst.Scope, []*ledger.Instance{of.inst}, of.inst.MadeLine, of.inst.Made
			of.tell(r.out.Report(o))
		}
	}
}

// forwarder returns the registration of longer life through which the instance was handed out, nil if there is none.
func (r *captiveRoot) forwarder(of *rootScoped) *ledger.Registration {
	g := r.facts.Answers()
	for _, by := range r.known.forwarders.to(r.world, of.inst.Reg) {
		for _, ask := range of.asks {
			if ask.via == by || ask.asked.Service != "" && g.Answer(by.Container, ask.asked) == by {
				return by
			}
		}
	}
	return nil
}

// explained reports whether another finding names what keeps i in the root: a longer-lived holder, or a scoped instance of the root
// that was made later and brought it along.
func (r *captiveRoot) explained(i *ledger.Instance) bool {
	if pairs, _ := i.Tag(captiveScopedTag).([]*captivePair); len(pairs) > 0 {
		return true
	}
	seen := map[*ledger.Instance]bool{i: true}
	for queue := []*ledger.Instance{i}; len(queue) > 0; queue = queue[1:] {
		if queue[0] != i && queue[0].Proxy() {
			continue // keeping it keeps nothing
		}
		r.world.Step(1 + len(queue[0].KeptBy))
		for _, k := range queue[0].KeptBy {
			h := k.Holder
			switch {
			case seen[h] || len(seen) == maxExplained:
			case h.Class().Long() && !facts.BelongsToScope(h):
				return true
			case facts.BelongsToScope(h):
				if h.Class() == ledger.ScopedClass && h.Home() == i.Root() && (h.Made > i.Made || h.Made == i.Made && h.ID > i.ID) {
					return true
				}
			default:
				seen[h] = true
				queue = append(queue, h)
			}
		}
	}
	return false
}

// maxExplained bounds how many keepers of one instance are visited.
const maxExplained = 4096

// forwarders are the registrations of longer life that forward to a scoped one, as of a state of the set-up.
type forwarders struct {
	asOf int64
	list []*ledger.Registration
	by   map[*ledger.Registration][]*ledger.Registration
}

// all returns them in the order of registration. The list is read-only.
func (f *forwarders) all(w *ledger.World) []*ledger.Registration {
	if f.by != nil && f.asOf == w.SetUp {
		return f.list
	}
	f.asOf, f.list, f.by = w.SetUp, nil, map[*ledger.Registration][]*ledger.Registration{}
	for _, r := range w.Registrations() {
		if !r.Known || r.Alias == nil || !r.Lifetime.Long() || r.Proxy != nil {
			continue
		}
		if to := r.Real(); to.Known && to.Lifetime == ledger.Scoped && to.Proxy == nil && !to.Pooled && to.Alias == nil {
			f.list = append(f.list, r)
			f.by[to] = append(f.by[to], r)
		}
	}
	return f.list
}

// to returns those that forward to r.
func (f *forwarders) to(w *ledger.World, r *ledger.Registration) []*ledger.Registration {
	f.all(w)
	return f.by[r]
}

// of returns the first that forwards to r, nil if none does.
func (f *forwarders) of(w *ledger.World, r *ledger.Registration) *ledger.Registration {
	if list := f.to(w, r); len(list) > 0 {
		return list[0]
	}
	return nil
}

// forwarderIdentity returns what a captive/forwarder finding is about.
func forwarderIdentity(by *ledger.Registration) finding.Identity {
	subject := by.Ref("")
	return finding.Identity{Rule: captiveForwarderRule.ID, Subject: subject, Path: []finding.Ref{subject, by.Real().Ref("")}}
}
