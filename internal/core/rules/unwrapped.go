package rules

import (
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// unwrappedRule reports a decorator that was registered like any other implementation: it answers for the service that it asks for
// itself, and what it was meant to wrap is out of reach.
var unwrappedRule = Rule{
	ID: "layers/unwrapped", Severity: finding.Error, Basis: finding.Declared,
	Doc: "A registration asks, directly or through others, for the service and key that it answers itself, while another registration of them is out of reach: a decorator that wraps nothing.",
	Not: "Decorators that wrap by their registration; needs that are resolved later; registrations that were built all the same; circles of services with one registration each (resolve/cycle).",
	Tell: func(f *finding.Finding) {
		name, outer, inner := f.Subject.Name(), implOr(f.Subject), implOr(f.Path[0])
		f.Title = sentence("%s asks for %s, which it answers itself", outer, name)
		f.Why = sentence("%s%s and %s%s are both registered for %s, and %s answers. So it gets itself where it asks for %s, and %s is never reached.",
			outer, place(f.Subject), inner, place(f.Path[0]), name, outer, name, inner)
		if p := f.Facts["way"]; len(p) > 1 {
			f.Why += " " + sentence("It asks through %s.", list(p[1:]))
		}
		asker, way := outer, f.Facts["way"]
		if len(way) > 1 { // it is the last step that comes back to it
			asker = way[len(way)-1]
		}
		f.Fix = sentence("Register %s under its class or a key and let %s ask for that%s. Keep both registrations.", inner, asker,
			map[bool]string{true: sentence(", or register %s%s as a decorator of it in the container's own way", outer, place(f.Subject)), false: ""}[asker == outer])
	},
}

// unwrapped are the registrations that ask for what they answer themselves while another one is out of reach, as of a state of the
// set-up and of the circles that were observed.
type unwrapped struct {
	asOf    [2]int64
	list    []*ledger.Registration
	rivals  map[*ledger.Registration][]*ledger.Registration
	rivalOf map[*ledger.Registration]*ledger.Registration
	way     map[*ledger.Registration][]*ledger.Registration // the circle, from the registration on
}

// around returns which registration keeps each of the others out of reach. The map is read-only.
func (u *unwrapped) around(w *ledger.World, g *facts.Answers, known *Shared) map[*ledger.Registration]*ledger.Registration {
	as := [2]int64{w.SetUp + 1, int64(len(known.cycleServices))}
	if u.asOf == as {
		return u.rivalOf
	}
	*u = unwrapped{asOf: as, rivals: map[*ledger.Registration][]*ledger.Registration{}, rivalOf: map[*ledger.Registration]*ledger.Registration{}, way: map[*ledger.Registration][]*ledger.Registration{}}
	edges := declaredEdges(w, g)
	left := maxCycleSteps
	for _, ring := range rings(w.Registrations(), edges) {
		for _, reg := range ring {
			if len(outOfReach(w, g, reg)) > 0 && left > 0 {
				u.add(w, g, reg, shortestBack(edges, reg, &left))
			}
		}
	}
	for _, service := range sortedKeys(known.cycleServices) {
		for _, reg := range g.Of(service) {
			if reg.Service == service {
				u.add(w, g, reg, nil)
			}
		}
	}
	return u.rivalOf
}

func (u *unwrapped) add(w *ledger.World, g *facts.Answers, reg *ledger.Registration, way []*ledger.Registration) {
	rivals := outOfReach(w, g, reg)
	if len(rivals) == 0 || u.rivals[reg] != nil {
		return
	}
	u.list = append(u.list, reg)
	u.rivals[reg], u.way[reg] = rivals, way
	for _, rival := range rivals {
		u.rivalOf[rival] = reg
	}
}

// outOfReach returns the registrations of reg's service and key that a request never gets because reg answers, if reg could be meant
// to wrap them.
func outOfReach(w *ledger.World, g *facts.Answers, reg *ledger.Registration) (list []*ledger.Registration) {
	if !reg.Known || reg.Internal || reg.Local || reg.Made > 0 || reg.Alias != nil || reg.Proxy != nil || reg.Wraps != nil || reg.Template != 0 || g.Answer(reg.Container, reg.Asked()) != reg {
		return nil
	}
	all := g.All(reg.Asked())
	w.Step(len(all))
	for _, other := range all {
		if other != reg && other.Container == reg.Container && !other.Local && other.Made == 0 && !other.Internal && other.Wraps == nil && len(g.Wrappers(other)) == 0 && !related(reg, other) && len(list) < maxPairs {
			list = append(list, other)
		}
	}
	return list
}

// occurrence describes reg, which is among the list.
func (u *unwrapped) occurrence(b *facts.Built, reg *ledger.Registration) Occurrence {
	o := Occurrence{Rule: &unwrappedRule, Subject: named(b, reg), Line: reg.Line, T: reg.T}
	for _, rival := range u.rivals[reg] {
		o.Path = append(o.Path, named(b, rival))
	}
	return o
}

// report reports all of them.
func (u *unwrapped) report(b *facts.Built, out Reporter) {
	for _, reg := range u.list {
		found := out.Report(u.occurrence(b, reg))
		found.Count("registrations", int64(1+len(u.rivals[reg])))
		for _, step := range u.way[reg] {
			found.Fact("way", step.Ref("").Name())
		}
	}
}

// explains returns the id of the finding about a service that a circle goes through, "" if there is none.
func (u *unwrapped) explains(b *facts.Built, services []string) string {
	for _, reg := range u.list {
		for _, service := range services {
			if reg.Service == service {
				o := u.occurrence(b, reg)
				return finding.Identity{Rule: o.Rule.ID, Subject: o.Subject, Path: o.Path}.ID()
			}
		}
	}
	return ""
}
