package rules

import (
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// captiveRoot reports captive/root: a scoped instance at home in the root that nothing keeps, but for transients of the
// root that nothing keeps: it was asked for outside any scope. Not: proxies.
type captiveRoot struct {
	facts      facts.Granted `freeze:"-"`
	out        Reporter
	world      *ledger.World
	candidates []*ledger.Instance
}

var captiveRootRule = Rule{
	ID: "captive/root", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A scoped registration's instance lives in the root although nothing keeps it: it was asked for outside any scope.",
	Not:   "One that something keeps (that is captive/scoped, or somebody's own business); a proxy.",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is scoped, and was asked for outside any scope", name)
		f.Why = sentence("%s of %s%s %s in the root, where every later request for it outside a scope gets the same one and nothing ends it before the process does.",
			count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject), plural(int(f.Counts["instances"]), "lives", "live"))
		f.Fix = sentence("Open a scope where %s%s is asked for and ask in it, or register it as a singleton if one for the whole process is meant.", name, place(f.Subject))
	},
}

// maxCandidates bounds what a rule keeps to judge at the end.
const maxCandidates = 10_000

func (r *captiveRoot) See(c *ledger.Change) {
	i := c.Inst
	if i.Class() == ledger.ScopedClass && i.Home() != nil && i.Home() == i.Root() && !i.Proxy() && len(r.candidates) < maxCandidates {
		r.candidates = append(r.candidates, i.Hold())
	}
}

// Judge waits until all keepers are known.
func (r *captiveRoot) Judge() {
	for _, i := range r.candidates {
		if i.Sees(r.world)&ledger.SeesWith == 0 || facts.Held(i) || i.Class() != ledger.ScopedClass {
			continue
		}
		r.out.Report(Occurrence{
			Rule: &captiveRootRule, Subject: i.Ref(), Scope: i.Scope, Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made,
		}).Count("instances", 1)
	}
}
