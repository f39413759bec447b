package rules

import (
	"iter"

	"keenlantern.example/internal/core/ledger"
)

// Handed is who was given what, having asked for what, and how often: for views, which tell what rules judge.
type Handed struct {
	Consumer    *ledger.Registration // nil where Direct or Entry say who it is, or nobody is known
	Direct      string               // the consumer's implementation, where it has no registration
	Entry       string
	Given       *ledger.Registration // nil: made past the container
	Impl        string
	Asked       ledger.Asked
	Site, How   string
	All         bool
	Via         *ledger.Registration
	Count       int64
	First, Last int64 // ns
	Examples    []*ledger.Instance
}

// Handouts returns all that were seen so far, in the order in which each was first seen.
func (s *Shared) Handouts() iter.Seq[Handed] {
	return func(yield func(Handed) bool) {
		for _, h := range s.handouts.list {
			out := Handed{
				Consumer: h.consumer, Direct: h.direct, Entry: h.entry, Given: h.given, Impl: h.implementation(), Asked: h.asks(),
				Site: h.site, How: h.how, All: h.forAll(), Via: h.via, Count: h.n, First: h.first, Last: h.last,
			}
			if need := h.need(); need != nil {
				out.Site, out.How = need.Site, need.How
			}
			switch {
			case out.How != "":
			case h.slot >= 0:
				out.How = "constructor"
			case h.entry != "":
				out.How = "entry"
			}
			for _, x := range h.examples {
				out.Examples = append(out.Examples, x.insts[0])
			}
			if !yield(out) {
				return
			}
		}
	}
}
