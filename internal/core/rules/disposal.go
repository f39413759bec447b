package rules

import (
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// leaked reports disposal/leaked: a disposable instance made by the container or a factory, whose home (not the root)
// closed and which was never disposed, before or after.
//
// Not: one with a dispose line of any state, or handed to its container; one made between the first disposal of its
// home's closing and the close; anything in a scope of unknown end, or that ended only because a root around it did.
type leaked struct {
	world *ledger.World
	out   Reporter
	cases map[leakedOf]Case
}

func newLeaked(e *Env) Watcher {
	return &leaked{world: e.World, out: e.Out, cases: map[leakedOf]Case{}}
}

// forgotten are the instances of a scope that were released without being disposed while it was open. They are a leak when
// it closes: forgetting is no disposal.
type forgotten struct {
	list []*ledger.Instance
	over map[leakedOf]int64 // those beyond maxForgotten
}

// maxForgotten bounds how many of one scope are kept one by one.
const maxForgotten = 1000

type leakedOf struct {
	reg      *ledger.Registration
	impl     string
	disposer string
}

var leakedRule = Rule{
	ID: "disposal/leaked", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A disposable instance that the container or a factory of it made was never disposed, although the scope it " +
		"belongs to has closed.",
	Not: "One that was disposed in any way, before or after, or handed to its container to dispose; one made while its " +
		"scope was already disposing; anything in a scope whose end cannot be seen.",
	Needs:  ledger.SeesDispose | ledger.SeesDisposeCode | ledger.SeesCloses,
	Hidden: "a disposal",
	Tell:   tellLeaked,
}

func (r *leaked) See(c *ledger.Change) {
	switch c.What {
	case ledger.ScopeClosed:
		r.world.Step(len(c.Scope.Homed))
		for _, i := range c.Scope.Homed {
			r.judge(i, c.Scope)
		}
		if gone, ok := c.Scope.Tag(forgottenTag).(*forgotten); ok {
			for _, i := range gone.list {
				if !i.InHome() { // else it has been judged
					r.judge(i, c.Scope)
				}
			}
			for of, n := range gone.over {
				if found := r.cases[of]; found != nil {
					found.Count("instances", n)
				}
			}
		}
	case ledger.ForgottenSeen:
		r.forget(c.Inst)
	case ledger.HomeKnown:
		r.judge(c.Inst, c.Scope)
	case ledger.DisposeSeen:
		// Disposed after all: late, and so no leak.
		if of, ok := c.Inst.Tag(leakedTag).(*leakTally); ok {
			c.Inst.SetTag(leakedTag, nil)
			of.found.Withdraw(c.Inst)
			of.found.Count("instances", -1)
			if of.instances--; of.instances == 0 {
				of.found.Count("scopes", -1)
			}
		}
	}
}

// forget remembers what would leak with its scope if nothing disposes it until then.
func (r *leaked) forget(i *ledger.Instance) {
	home := i.Home()
	if home == nil || home.Ended || home == i.Root() || i.InHome() || !i.Disposable() || i.DisposeLines > 0 {
		return
	}
	gone, _ := home.Tag(forgottenTag).(*forgotten)
	if gone == nil {
		gone = &forgotten{over: map[leakedOf]int64{}}
		home.SetTag(forgottenTag, gone)
	}
	if len(gone.list) < maxForgotten {
		gone.list = append(gone.list, i.Hold())
	} else if (i.By == "container" || i.By == "factory") && seesDisposal(i, r.world) {
		gone.over[leakedOf{i.Reg, i.Impl(), i.Disposer()}]++
	}
}

func (r *leaked) judge(i *ledger.Instance, home *ledger.Scope) {
	if i.DisposeLines > 0 || !i.Disposable() || !home.Closed || home.EndsUnknown || home == i.Root() {
		return
	}
	if i.By != "container" && i.By != "factory" {
		return
	}
	if since := home.Closing(); since > 0 && i.MadeSeq > since {
		return
	}
	if !seesDisposal(i, r.world) || i.Sees(r.world)&ledger.SeesCloses == 0 {
		return
	}
	of := leakedOf{i.Reg, i.Impl(), i.Disposer()}
	because := ""
	if failed, ok := home.Tag(failedTag).(Case); ok {
		because = failed.ID()
		failed.Name("left", i)
	}
	if closed, ok := i.Tag(closedScopeTag).(Case); ok {
		because = closed.ID()
	}
	found := r.out.Report(Occurrence{
		Rule: &leakedRule, Subject: i.Ref(), Scope: home, Insts: []*ledger.Instance{i}, Roles: []string{"subject"},
		Line: i.MadeLine, T: i.Made, Because: because,
	})
	if r.cases[of] == nil {
		r.cases[of] = found
		found.Fact("disposer", of.disposer)
	}
	found.Count("instances", 1)
	found.Fact("scope_kinds", kindOf(home))
	found.Fact("scope_names", nameOf(home))
	tally := tallyOf(home, found)
	if tally.instances++; tally.instances == 1 {
		found.Count("scopes", 1)
	}
	i.SetTag(leakedTag, tally)
}

// leakTally counts what one scope leaked of one finding.
type leakTally struct {
	found     Case
	instances int
}

func tallyOf(home *ledger.Scope, found Case) *leakTally {
	tallies, _ := home.Tag(leakedTag).([]*leakTally)
	for _, t := range tallies {
		if t.found == found {
			return t
		}
	}
	t := &leakTally{found: found}
	home.SetTag(leakedTag, append(tallies, t))
	return t
}

// seesDisposal reports whether the recorder would have seen i being disposed by its disposer.
func seesDisposal(i *ledger.Instance, w *ledger.World) bool {
	if i.Disposer() == "container" {
		return i.Sees(w)&ledger.SeesDispose != 0
	}
	return i.Sees(w)&ledger.SeesDisposeCode != 0
}

func tellLeaked(f *finding.Finding) {
	kind := "scope"
	if kinds := f.Facts["scope_kinds"]; len(kinds) == 1 {
		kind = kinds[0]
	}
	name := f.Subject.Name()
	n := f.Counts["instances"]
	f.Title = sentence("%s is not disposed when its %s ends", name, kind)
	f.Why = sentence("%s of %s%s belonged to %s that %s closed, and no disposal was recorded.",
		count(n, "instance", "instances"), name, implementedBy(f.Subject),
		count(f.Counts["scopes"], "scope", "scopes"), plural(int(f.Counts["scopes"]), "is", "are"))
	if where := f.Facts["scope_names"]; len(where) > 0 {
		f.Why += " " + sentence("It happened in %s.", list(where))
	}
	nobody := false
	code := false
	for _, d := range f.Facts["disposer"] {
		nobody = nobody || d == "nobody"
		code = code || d == "code"
	}
	switch {
	case nobody:
		f.Why += " " + sentence("This container never disposes what it builds under this registration.")
		f.Fix = sentence("Dispose %s%s in the application when the %s ends, or register it so that the container does.",
			name, place(f.Subject), kind)
	case code:
		f.Why += " " + sentence("The container leaves the disposal of these to the application.")
		f.Fix = sentence("Dispose %s%s where the %s ends, on every way out of it, failures included.", name, place(f.Subject), kind)
	default:
		f.Why += " " + sentence("Its container disposes such instances when their scope closes: it does not track this one, or the scope was dropped without being closed.")
		f.Fix = sentence("Close the %s of %s%s through the container on every path, errors included, and let only the container dispose the instance.",
			kind, name, place(f.Subject))
	}
}
