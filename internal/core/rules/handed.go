package rules

import (
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// who names the receiver of a hand-out, nil if it is unknown.
func who(b *facts.Built, h *facts.Handout) *finding.Ref {
	switch {
	case h.By() != nil:
		r := named(b, h.By())
		return &r
	case h.Direct != "":
		return &finding.Ref{Service: h.Direct, Implementation: finding.Text(h.Direct)}
	case h.Entry != "":
		return &finding.Ref{Service: h.Entry}
	}
	return nil
}

// reportHandout reports every example of a hand-out as an occurrence of o.
func reportHandout(h *facts.Handout, out Reporter, o Occurrence) Case {
	var found Case
	for _, x := range h.Examples {
		o.Scope, o.Insts, o.Line, o.T = x.Scope, x.Insts, x.Line, x.T
		found = out.Report(o)
	}
	found.Count("instances", h.N)
	found.Last(h.Last)
	return found
}

// named returns the name of a registration: its implementation as made, where the registration does not know it.
func named(b *facts.Built, r *ledger.Registration) finding.Ref { return r.Ref(b.Impl(r)) }
