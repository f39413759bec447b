package rules

import (
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// captiveTransient reports captive/transient: a singleton, per-consumer or external holder keeps a transient directly.
// Graver when the transient is disposable, and an error when it must not be shared and was used in two scopes.
type captiveTransient struct {
	out Reporter
	set *Settings
}

type heldTransient struct {
	cases  []Case
	scope  *ledger.Scope
	shared bool
}

var captiveTransientRule = Rule{
	ID: "captive/transient", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A singleton, per-consumer or external holder keeps a transient, which so lives as long as the holder: a note, a warning when it is disposable, an error when it must not be shared and was used in two scopes.",
	Not: "A transient kept through another one, which is reported where it is kept directly; anything behind a proxy; what one internal registration keeps of another.",
	Tell: func(f *finding.Finding) {
		holder, kept := f.Holder.Name(), f.Subject.Name()
		f.Title = sentence("%s, %s, keeps %s, which is transient", holder, lifetimeOf(*f.Holder), article(kept))
		f.Why = sentence("%s is registered to be built for each request, but the instance that %s keeps lives as long as %s.", kept, holder, holder)
		switch f.Severity {
		case finding.Error:
			f.Why += " " + sentence("It must not be used by two scopes at the same time, and was used in several.")
		case finding.Warning:
			f.Why += " " + sentence("It is disposable: %s retains it after its owner has disposed it, or keeps it from being disposed.", holder)
		}
		f.Fix = sentence("Give %s%s a way to ask for %s when it needs one, or register %s%s with the lifetime it really has.", holder, place(*f.Holder), article(kept), kept, place(f.Subject))
	},
}

func (r *captiveTransient) See(c *ledger.Change) {
	d := c.Inst
	if c.What == ledger.Registered {
		if kept, ok := c.Reg.Tag(keptBelowTag).(*[]Case); ok && c.Reg.Disposable {
			for _, found := range *kept {
				found.Grave(finding.Warning)
			}
		}
		return
	}
	if c.What == ledger.Used {
		if d.Class() != ledger.TransientClass || c.Scope == nil || !r.set.mustNotShare(d) {
			return
		}
		held := heldOf(d) // uses before it is kept count too
		if held.shared {
			return
		}
		if held.scope == nil {
			held.scope = c.Scope
		} else if held.scope != c.Scope {
			held.shared = true
			for _, k := range held.cases {
				k.Grave(finding.Error)
			}
		}
		return
	}
	h := c.Holder
	if d.Class() != ledger.TransientClass || d.Proxy() || !h.Class().Long() || h.Class() == ledger.ExternalClass && h.Home() != h.Root() {
		return
	}
	// What a framework's own singleton keeps of the framework's own is neither a mistake of the application nor its to change.
	if d.Reg != nil && d.Reg.Internal && h.Reg != nil && h.Reg.Internal {
		return
	}
	held := heldOf(d)
	severity := finding.Note
	if d.Disposable() {
		severity = finding.Warning
	}
	if held.shared {
		severity = finding.Error
	}
	holder := h.Ref()
	line, t := laterMake(d, h)
	found := r.out.Report(Occurrence{
		Rule: &captiveTransientRule, Severity: severity, Subject: d.Ref(), Holder: &holder, Path: []finding.Ref{holder, d.Ref()},
		Scope: d.Scope, Insts: []*ledger.Instance{d, h}, Roles: []string{"kept", "holder"}, Line: line, T: t,
	})
	found.Count("instances", 1)
	held.cases = append(held.cases, found)
	if severity == finding.Note && d.Reg != nil {
		r.ofRegistration(d.Reg, found)
	}
}

// ofRegistration notes a finding whose severity rises where a later line of the registration shows that its instances are disposable.
func (r *captiveTransient) ofRegistration(reg *ledger.Registration, found Case) {
	kept, _ := reg.Tag(keptBelowTag).(*[]Case)
	if kept == nil {
		kept = &[]Case{}
		reg.SetTag(keptBelowTag, kept)
	}
	if len(*kept) < maxPairs && !slices.Contains(*kept, found) {
		*kept = append(*kept, found)
	}
}

func heldOf(d *ledger.Instance) *heldTransient {
	held, _ := d.Tag(captiveTransientTag).(*heldTransient)
	if held == nil {
		held = &heldTransient{}
		d.SetTag(captiveTransientTag, held)
	}
	return held
}
