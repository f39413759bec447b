package rules

import (
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// disposals watches dispose lines and what comes after them, for the rules about one instance's disposal: late,
// stuck, failed, twice, used-after, used-during, order and too-early. They share what they remember of it.
type disposals struct {
	world *ledger.World
	out   Reporter
	noted map[*ledger.Container]bool // disposal/order's notes
	stuck []*ledger.Instance
	early map[*ledger.Instance]*earlyDisposal
}

type earlyDisposal struct {
	found Case // nil until it is used or given out after
}

func newDisposals(e *Env) Watcher {
	return &disposals{world: e.World, out: e.Out, noted: map[*ledger.Container]bool{}, early: map[*ledger.Instance]*earlyDisposal{}}
}

var lateRule = Rule{
	ID: "disposal/late", Severity: finding.Note, Basis: finding.Observed,
	Doc: "An instance was disposed after its home had closed.",
	Not: "External ones that code disposes; scopes whose end cannot be seen.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is disposed after its scope has closed", name)
		f.Why = sentence("%s of %s%s %s disposed only after the scope it belongs to was over.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject), plural(int(f.Counts["instances"]), "was", "were"))
		f.Fix = sentence("Dispose %s%s before its scope is closed, so that nothing it holds outlives the work.", name, place(f.Subject))
	},
}

var stuckRule = Rule{
	ID: "disposal/stuck", Severity: finding.Error, Basis: finding.Observed,
	Doc:    "A disposal began and was neither done nor failed, although the instance's home has closed or the process ended in order.",
	Not:    "An instance handed to its container; the root's in a stream that was cut off.",
	Needs:  ledger.SeesDispose | ledger.SeesDisposeCode,
	Hidden: "the end of the disposal",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("The disposal of %s does not end", name)
		f.Why = sentence("The disposal of %s of %s%s began and never ended; callers may still be waiting.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject))
		f.Fix = sentence("Find what the disposal of %s%s waits for, and give it a timeout.", name, place(f.Subject))
	},
}

var failedRule = Rule{
	ID: "disposal/failed", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A disposal failed, or the container could not dispose the instance there.",
	Not: "A disposal that ended, whatever came after.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("The disposal of %s fails", name)
		f.Why = sentence("%s of %s%s could not be disposed.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject))
		if e := f.Facts["errors"]; len(e) > 0 {
			f.Why += " " + sentence("The error was: %s.", list(e))
		}
		if l := f.Facts["left"]; len(l) > 0 {
			f.Why += " " + sentence("Never disposed after it in the same scope: %s.", list(l))
		}
		f.Fix = sentence("Let the disposal of %s%s succeed or report its error elsewhere: what is disposed after it may be left out.", name, place(f.Subject))
	},
}

var twiceRule = Rule{
	ID: "disposal/twice", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "An instance was disposed twice.",
	Not: "A line that was written twice.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is disposed twice", name)
		f.Why = sentence("%s of %s%s %s disposed a second time.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject), plural(int(f.Counts["instances"]), "was", "were"))
		if f.Severity == finding.Note {
			f.Why += " " + sentence("The container did both in one closing, as it does with what it handed out under several names.")
		}
		f.Fix = sentence("Leave the disposal of %s%s to one owner, and let a second one do nothing.", name, place(f.Subject))
	},
}

var usedAfterRule = Rule{
	ID: "disposal/used-after", Severity: finding.Error, Basis: finding.Observed,
	Doc: "An instance was handed out, or used by a use that began, after it had been disposed.",
	Not: "A use that was still running when it was disposed (disposal/used-during); one that only the order of lines or only their times put after.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is used after it was disposed", name)
		f.Why = sentence("%s of %s%s %s used or handed out %s after its disposal%s.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject),
			plural(int(f.Counts["instances"]), "was", "were"), times(f.Counts["uses"]+f.Counts["handed_out"]), commaBefore(usedBy(f)))
		f.Fix = sentence("Find what still holds %s%s when it is disposed, and release it there or dispose it later.", name, place(f.Subject))
		if len(f.Facts["pooled"]) > 0 {
			f.Title = sentence("%s is used after it was returned to its pool", name)
			f.Why = sentence("%s of %s%s %s used %s after the scope that leased %s had returned %s%s: the pool may have leased the same instance to another scope.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject),
				plural(int(f.Counts["instances"]), "was", "were"), times(f.Counts["uses"]), plural(int(f.Counts["instances"]), "it", "them"), plural(int(f.Counts["instances"]), "it", "them"), commaBefore(usedBy(f)))
			f.Fix = sentence("Find what still holds %s%s after its scope, and let it lease a separate one.", name, place(f.Subject))
		}
	},
}

var usedDuringRule = Rule{
	ID: "disposal/used-during", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "A use of an instance was still running when it was disposed.",
	Not: "A use that began in the root or in no scope, of an instance of the root: its disposal is what ends it.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is disposed while it is being used", name)
		f.Why = sentence("%s of %s%s %s disposed before a use of it had returned.", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject), plural(int(f.Counts["instances"]), "was", "were"))
		f.Fix = sentence("Wait for the work that uses %s%s before its scope is closed.", name, place(f.Subject))
	},
}

var orderRule = Rule{
	ID: "disposal/order", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "Something was disposed before what keeps it, in the same scope: a warning when it was used in between or code disposed it, otherwise a note for each container that does so.",
	Not: "Instances that keep each other; ones of different homes; ones handed to their container; one disposed while its holder's own disposal ran.",
	Tell: func(f *finding.Finding) {
		holder, kept := f.Holder.Name(), f.Subject.Name()
		f.Title = sentence("%s is disposed before %s, which keeps it", kept, holder)
		f.Why = sentence("%s holds %s until it is disposed itself, and %s went first in the same scope.", holder, article(kept), kept)
		if f.Severity == finding.Warning {
			f.Why += " " + sentence("It was used in between, or code took it out of the container's order.")
		}
		f.Fix = sentence("Dispose %s%s before %s%s: the reverse of the order in which they were built.", holder, place(*f.Holder), kept, place(f.Subject))
	},
}

var tooEarlyRule = Rule{
	ID: "disposal/too-early", Severity: finding.Error, Basis: finding.Observed,
	Doc: "An instance was disposed while its home was still open, by code although its container disposes it or at the end of another scope, and was used or handed out after.",
	Not: "One that is not used afterwards; one whose disposal is the application's own business.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		how := "Code disposed it, although the container does so when its scope ends."
		for _, by := range f.Facts["by"] {
			if by == "container" {
				how = "It was disposed at the end of another scope than the one it belongs to."
			}
		}
		f.Title = sentence("%s is disposed too early, while others still use it", name)
		f.Why = sentence("%s of %s%s %s used or handed out after the disposal, in the scope it belongs to. %s", count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject),
			plural(int(f.Counts["instances"]), "was", "were"), how)
		f.Fix = sentence("Leave the disposal of %s%s to its container.", name, place(f.Subject))
	},
}

func (r *disposals) See(c *ledger.Change) {
	switch c.What {
	case ledger.DisposeSeen:
		r.disposed(c)
	case ledger.Used:
		began := c.Event.T - c.Event.NS
		r.touched(c, began, "uses", c.Event.Count)
	case ledger.Given:
		began := c.Event.T
		if c.Event.Kind == event.Make { // it was read during a construction
			began -= c.Event.NS
		}
		r.touched(c, began, "handed_out", 1)
	case ledger.Bound:
		if c.Edge != nil && c.Event != nil && c.Edge.Slot >= 0 && c.Holder.MadeSeq == r.world.Seq {
			r.touched(c, c.Event.T-c.Event.NS, "handed_out", 1)
		}
	case ledger.ScopeClosed:
		r.world.Step(len(c.Scope.Homed))
		for _, i := range c.Scope.Homed {
			r.suspect(i)
		}
	case ledger.ForgottenSeen:
		r.suspect(c.Inst)
	}
}

// suspect remembers an instance whose disposal has begun and not ended: it counts only while it stays so.
func (r *disposals) suspect(i *ledger.Instance) {
	if !i.Begun || i.Handed || i.Done > 0 {
		return
	}
	if len(r.stuck) == maxCandidates {
		r.stuck = slices.DeleteFunc(r.stuck, func(i *ledger.Instance) bool {
			ended := i.Done > 0 || i.Handed
			if ended {
				i.Let()
			}
			return ended
		})
	}
	if len(r.stuck) < maxCandidates {
		r.stuck = append(r.stuck, i.Hold())
	}
}

func (r *disposals) disposed(c *ledger.Change) {
	i, ev := c.Inst, c.Event
	home := i.Home()
	// Only what is reported is worth describing: nearly every disposal is as it should be.
	saw := func(rule *Rule) Occurrence {
		return Occurrence{Rule: rule, Subject: i.Ref(), Scope: home, Insts: []*ledger.Instance{i}, Line: ev.Line, T: ev.T}
	}
	switch ev.State {
	case "returned":
		return // to its pool: it has not ended
	case "begun":
		if home != nil && home.Ended {
			r.suspect(i)
		}
		return
	case "failed", "refused":
		one := saw(&failedRule)
		one.Roles = []string{"subject"}
		found := r.out.Report(one)
		found.Count("instances", 1)
		if ev.State == "refused" {
			found.Fact("errors", "the container cannot dispose it there")
		}
		found.Fact("errors", ev.Error)
		if home != nil && home.Tag(failedTag) == nil {
			home.SetTag(failedTag, found)
		}
		return
	}
	if home != nil && home.Ended && ev.T >= home.ClosedAt && !home.EndsUnknown && (home.Closed || home.Root) && i.EndedSeq < r.world.Seq && i.Done <= 1 && !(i.By == "external" && ev.By == "code") && i.GoneSeq == r.world.Seq {
		r.out.Report(saw(&lateRule)).Count("instances", 1)
	}
	if i.Done == 2 && ev.State != "handed" {
		one := saw(&twiceRule)
		one.Severity = finding.Warning
		if fromContainer(i.GoneBy) && fromContainer(ev.By) && i.GoneIn == c.Scope && (home == nil || !home.ActiveSince(i.GoneSeq)) {
			one.Severity = finding.Note
		}
		if e := r.early[i]; e != nil && e.found != nil {
			one.Because = e.found.ID()
		}
		r.out.Report(one).Count("instances", 1)
	} else if i.Done > 2 && !fromContainer(ev.By) && ev.State != "handed" {
		one := saw(&twiceRule)
		one.Severity = finding.Warning // what its container does twice is a note, and what code does is not
		r.out.Report(one)
	}
	if i.GoneSeq != r.world.Seq {
		return
	}
	if home != nil && !home.Ended {
		code := ev.By == "code" && i.Disposer() == "container"
		elsewhere := fromContainer(ev.By) && c.Scope != nil && c.Scope != home
		if code || elsewhere {
			r.early[i.Hold()] = &earlyDisposal{}
			if len(r.early) > maxCandidates {
				for one := range r.early {
					one.Let()
				}
				clear(r.early)
			}
		}
	}
	r.order(c)
}

func fromContainer(by string) bool { return by == "" || by == "container" || by == "owner" }

// order looks at what the disposed one keeps and was disposed before it.
func (r *disposals) order(c *ledger.Change) {
	h := c.Inst
	if !h.Disposable() || h.Handed || h.Reg != nil && h.Reg.Proxy != nil {
		return
	}
	r.world.Step(len(h.Keeps))
	for n := range h.Keeps {
		d := h.Keeps[n].Kept
		if d == nil || !d.Disposable() || d.Handed || d.Home() != h.Home() || d.GoneSeq == 0 || d.GoneAt >= h.GoneAt || d.GoneSeq >= h.GoneSeq || keeps(d, h) {
			continue
		}
		if h.BegunSeq > 0 && d.GoneSeq > h.BegunSeq {
			continue // the holder disposes what it owns in its own disposal
		}
		severity := finding.Note
		users, _ := d.Tag(usedAfterByTag).([]*ledger.Instance)
		for _, u := range users {
			if u == h {
				severity = finding.Warning
			}
		}
		if d.GoneBy == "code" {
			severity = finding.Warning
		}
		if severity == finding.Note {
			if r.noted[h.Container] {
				continue
			}
			r.noted[h.Container] = true
		}
		holder := h.Ref()
		r.out.Report(Occurrence{
			Rule: &orderRule, Severity: severity, Subject: d.Ref(), Holder: &holder, Scope: h.Home(),
			Insts: []*ledger.Instance{d, h}, Roles: []string{"kept", "holder"}, Line: c.Event.Line, T: c.Event.T,
		}).Count("instances", 1)
	}
}

func keeps(h, d *ledger.Instance) bool {
	return slices.ContainsFunc(upTo(maxLooks, h.Keeps), func(e ledger.Edge) bool { return e.Kept == d })
}

// touched looks at a use or hand-out that began at a time, of an instance that may have been disposed.
func (r *disposals) touched(c *ledger.Change, began int64, figure string, n int64) {
	i := c.Inst
	// A pool that code keeps may lease without a line: only a use in the scope that returned the instance is certainly one without a lease.
	returned := i.GoneSeq == 0 && i.ReturnedSeq > 0 && c.What == ledger.Used && began > i.ReturnedAt && (i.Pooled() || c.Scope == i.ReturnedIn)
	if !returned && (i.GoneSeq == 0 || c.Event.T <= i.GoneAt) {
		return
	}
	one := Occurrence{Subject: i.Ref(), Scope: c.Scope, Insts: []*ledger.Instance{i}, Roles: []string{"subject"}, Line: c.Event.Line, T: c.Event.T}
	if !returned && began <= i.GoneAt {
		if c.What != ledger.Used || i.Home() != nil && i.Home() == i.Root() && (c.Scope == nil || c.Scope.Root) {
			return
		}
		one.Rule = &usedDuringRule
		if i.Tag(usedDuringTag) == nil {
			found := r.out.Report(one)
			i.SetTag(usedDuringTag, found)
			found.Count("instances", 1)
		}
		return
	}
	if e := r.early[i]; e != nil {
		if e.found == nil {
			first := one
			first.Rule = &tooEarlyRule
			e.found = r.out.Report(first)
			e.found.Count("instances", 1)
			e.found.Fact("by", map[bool]string{true: "code", false: "container"}[i.GoneBy == "code"])
		}
		one.Because = e.found.ID()
		e.found.Count("uses_after", n)
	}
	if crossed, ok := i.Tag(crossedTag).(Case); ok {
		one.Because = crossed.ID()
	}
	user := c.Holder
	if held, ok := i.Tag(captiveTransientTag).(*heldTransient); ok && len(held.cases) > 0 {
		one.Because = held.cases[0].ID()
	}
	if carried, ok := i.Tag(carriedTag).(Case); ok {
		one.Because = carried.ID()
	}
	if captive := captiveOf(i, user); captive != nil {
		one.Because = captive.ID()
	}
	if c.What == ledger.Used && user != nil {
		users, _ := i.Tag(usedAfterByTag).([]*ledger.Instance)
		if len(users) < maxPairs {
			i.SetTag(usedAfterByTag, append(users, user.Hold()))
		}
	}
	one.Rule = &usedAfterRule
	found := r.out.Report(one)
	if returned {
		found.Fact("pooled", "yes")
	}
	if i.Tag(usedAfterTag) == nil {
		i.SetTag(usedAfterTag, found)
		found.Count("instances", 1)
	}
	found.Count(figure, n)
	if user != nil {
		found.Name("used_by", user)
	}
}

// Judge reports the disposals that have not ended.
func (r *disposals) Judge() {
	seen := map[*ledger.Instance]bool{}
	for _, i := range r.stuck {
		home := i.Home()
		if !i.Begun || i.Done > 0 || i.Handed || seen[i] || !(r.world.Over || home != nil && home.Ended) || !seesDisposal(i, r.world) {
			continue
		}
		seen[i] = true
		r.out.Report(Occurrence{Rule: &stuckRule, Subject: i.Ref(), Scope: home, Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made}).Count("instances", 1)
	}
	r.world.Living(func(i *ledger.Instance) {
		if r.world.Over && i.Begun && i.Done == 0 && !i.Handed && !seen[i] && seesDisposal(i, r.world) {
			r.out.Report(Occurrence{Rule: &stuckRule, Subject: i.Ref(), Scope: i.Home(), Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made}).Count("instances", 1)
		}
	})
}
