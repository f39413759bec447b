package rules

import (
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// crossed reports sharing/crossed: an instance that is used or given out in a scope it does not belong to.
type crossed struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	known *Shared
}

var crossedRule = Rule{
	ID: "sharing/crossed", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "An instance of one scope is used or given out in another one that lies neither in it nor is the root, and no recorded reference explains how it got there: a static field, a queue.",
	Not:   "Instances of the root; instances of a scope, such as a session, to which the other one belongs, or may belong since it belongs to no other of that kind; what is kept by an instance that belongs to that scope or outlasts it (captive/scoped reports that), unless that instance got it after its scope had closed; scopes of which the work of one, still open, opened the other; instances that code returned to a pool.",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		n := f.Counts["instances"]
		f.Title = sentence("%s of one scope is used in another", name)
		others := slices.Clone(f.Facts["used_in"])
		for _, in := range f.Facts["given_in"] {
			if !slices.Contains(others, in) {
				others = append(others, in)
			}
		}
		f.Why = sentence("%s of %s%s %s to one scope%s and %s used or given out in another%s, %s. No recorded reference explains how %s got there: look for a static field, a cache or a queue.",
			count(n, "instance", "instances"), name, implementedBy(f.Subject), plural(int(n), "belongs", "belong"), among(f.Facts["belongs_to"]), plural(int(n), "was", "were"), among(others), times(f.Counts["times"]),
			plural(int(n), "it", "they"))
		f.Fix = sentence("Find where %s%s is stored between scopes, and resolve it in each scope instead.", name, place(f.Subject))
	},
}

func (r *crossed) See(c *ledger.Change) {
	switch c.What {
	case ledger.Used:
		r.judge(c, c.Inst, c.Scope, nil)
	case ledger.Given:
		var receiver *ledger.Instance
		if c.Holder != nil {
			receiver = late(c.Holder, c.Inst.Home())
		}
		r.judge(c, c.Inst, c.Scope, receiver)
	case ledger.Bound:
		if receiver := late(c.Holder, c.Inst.Home()); receiver != nil && builtWith(c) {
			r.judge(c, c.Inst, receiver.Home(), receiver)
		}
	case ledger.Opened:
		// Constructions that were recorded before the scope's open line could not be judged when they came.
		for _, h := range c.Scope.Homed {
			r.world.Step(1 + len(h.Keeps))
			for k := range h.Keeps {
				if e := &h.Keeps[k]; e.Kept != nil && e.Slot >= 0 && late(h, e.Kept.Home()) != nil {
					r.judge(&ledger.Change{What: ledger.Bound, Inst: e.Kept, Holder: h}, e.Kept, c.Scope, h)
				}
			}
		}
	}
}

// judge checks an instance that was used or given out in s. A receiver that got it only after its scope had closed does not explain the
// use by keeping it.
func (r *crossed) judge(c *ledger.Change, i *ledger.Instance, s *ledger.Scope, receiver *ledger.Instance) {
	home := i.Home()
	if i.ReturnedAt > 0 || s == nil || home == nil || !s.Known || s == i.Root() || home == i.Root() || s == home || s.BelongsTo(home) || mayBelong(s, home) || s.JoinsMore() {
		return
	}
	if r.world.OpenedBy(s, home) || r.world.OpenedBy(home, s) {
		return
	}
	r.world.Step(s.Joins() * (1 + i.Offers()))
	if i.Sees(r.world)&ledger.SeesWith == 0 || i.OfferedInto(s, receiver) {
		return
	}
	if kept, known := r.facts.Keeping().KeptInto(i, s, receiver); kept || !known {
		return
	}
	because := ""
	for _, k := range i.KeptBy[max(0, len(i.KeptBy)-maxPairs):] {
		if above, ok := k.Holder.Tag(crossedTag).(Case); ok {
			because = above.ID()
		}
	}
	if closed, ok := i.Tag(closedScopeTag).(Case); ok {
		because = closed.ID()
	}
	if by := r.known.forwarders.of(r.world, i.Reg); by != nil {
		because = forwarderIdentity(by).ID()
		r.known.forwarded[by] = true
	}
	o := Occurrence{Rule: &crossedRule, Subject: i.Ref(), Scope: s, Insts: []*ledger.Instance{i}, Roles: []string{"subject"}, Because: because}
	n := int64(1)
	if c.Event != nil {
		o.Line, o.T, n = c.Event.Line, c.Event.T, c.Event.Count
	} else {
		o.Line, o.T = c.Holder.MadeLine, c.Holder.Made
	}
	found := r.out.Report(o)
	if i.Tag(crossedTag) == nil {
		i.SetTag(crossedTag, found)
		found.Count("instances", 1)
	}
	found.Count("times", n)
	found.Fact("belongs_to", nameOf(home))
	if c.What != ledger.Used {
		found.Fact("given_in", nameOf(s))
	} else {
		found.Fact("used_in", nameOf(s))
	}
}

// builtWith reports whether a change shows, for the first time with both homes known, that the receiver was built with an instance.
func builtWith(c *ledger.Change) bool {
	if c.Edge != nil {
		return c.Event.Kind == event.Make && c.Edge.Slot >= 0
	}
	return c.Homed && slices.ContainsFunc(upTo(maxLooks, c.Holder.Keeps), func(e ledger.Edge) bool { return e.Kept == c.Inst && e.Slot >= 0 })
}

// mayBelong reports whether s may belong to home, such as a session: home outlives scopes like s, or its end is not seen, and s belongs to
// no other scope of home's kind.
func mayBelong(s, home *ledger.Scope) bool {
	return (home.EndsUnknown || home.Lasting) && s.Kind != home.Kind && s.Within(home.Kind) == nil
}

// late returns a receiver that was made after home had closed and whose own scope neither lies around home nor is home, nil for any
// other.
func late(receiver *ledger.Instance, home *ledger.Scope) *ledger.Instance {
	own := receiver.Home()
	if home == nil || !home.Ended || own == nil || own.Root || receiver.MadeSeq <= home.ClosedSeq || receiver.Made-receiver.NS < home.ClosedAt || own.Outlasts(home) || own == home {
		return nil
	}
	return receiver
}

// sharedAtOnce reports sharing/at-once: an instance that must not be shared is used by two scopes at the same time.
type sharedAtOnce struct {
	out Reporter
	set *Settings
}

type useSpan struct {
	from, to int64
	scope    *ledger.Scope
	thread   string
}

// maxSpans is how many of the latest uses of one instance are compared.
const maxSpans = 64

var atOnceRule = Rule{
	ID: "sharing/at-once", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "An instance that two scopes must not use at the same time was used so.",
	Not:   "Uses of one scope, or of one thread; uses whose duration is not known, or several added up.",
	Needs: ledger.SeesUse,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is used by two scopes at the same time", name)
		f.Why = sentence("It must not be shared, and its uses by different scopes overlapped %s, by %s µs at the widest.", times(f.Counts["overlaps"]), number((f.Counts["widest_ns"]+999)/1000))
		f.Fix = sentence("Register %s%s so that each scope gets its own, or guard it so that it may be shared.", name, place(f.Subject))
	},
}

func (r *sharedAtOnce) See(c *ledger.Change) {
	i, ev := c.Inst, c.Event
	if ev.NS == 0 || ev.Count > 1 || c.Scope == nil || !r.set.mustNotShare(i) {
		return
	}
	spans, _ := i.Tag(atOnceTag).(*[]useSpan)
	if spans == nil {
		spans = &[]useSpan{}
		i.SetTag(atOnceTag, spans)
	}
	now := useSpan{ev.T - ev.NS, ev.T, c.Scope, ev.Thread}
	for _, old := range *spans {
		overlap := min(old.to, now.to) - max(old.from, now.from)
		if overlap <= 0 || old.scope == now.scope || old.thread != "" && old.thread == now.thread {
			continue
		}
		found := r.out.Report(Occurrence{
			Rule: &atOnceRule, Subject: i.Ref(), Scope: c.Scope, Insts: []*ledger.Instance{i}, Roles: []string{"subject"}, Line: ev.Line, T: ev.T,
		})
		found.Count("overlaps", 1)
		found.Most("widest_ns", overlap)
	}
	if len(*spans) == maxSpans {
		*spans = append((*spans)[:0], (*spans)[1:]...)
	}
	*spans = append(*spans, now)
}
