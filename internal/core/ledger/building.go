package ledger

import (
	"cmp"
	"slices"
)

// Nesting finds out which constructions of one scope ran within which others, from when they ended and how long they
// took alone. It keeps its room between calls; the zero value is ready.
type Nesting struct {
	spans []Span
	stack []int
}

// Span is one timed construction: from Inst.Made - Inst.NS to Inst.Made.
type Span struct {
	Inst  *Instance
	Outer int   // the span around it, by its place; -1 where there is none
	Own   int64 // ns: its time without what ran within it
	upTo  int64 // until when its time has been taken out
}

func (s *Span) from() int64 { return s.Inst.Made - s.Inst.NS }

// Of returns the spans of constructions whose NS is not 0, by their start, an outer one before what it holds. What took
// exactly the same time lies in what was noted after it: construction ends on the inside first. The result is good until
// the next call. It takes n log n for n constructions.
func (n *Nesting) Of(built []*Instance) []Span {
	n.spans = n.spans[:0]
	for _, i := range built {
		if i.NS > 0 {
			n.spans = append(n.spans, Span{Inst: i, Outer: -1, Own: i.NS})
		}
	}
	spans := n.spans
	if len(spans) > 1 {
		slices.SortStableFunc(spans, func(a, b Span) int {
			return cmp.Or(cmp.Compare(a.from(), b.from()), cmp.Compare(b.Inst.Made, a.Inst.Made), cmp.Compare(b.Inst.MadeSeq, a.Inst.MadeSeq))
		})
	}
	n.stack = n.stack[:0]
	for k := range spans {
		s := &spans[k]
		s.upTo = s.from()
		for len(n.stack) > 0 && spans[n.stack[len(n.stack)-1]].Inst.Made < s.Inst.Made {
			n.stack = n.stack[:len(n.stack)-1]
		}
		if len(n.stack) > 0 {
			s.Outer = n.stack[len(n.stack)-1]
			// Of constructions that ran side by side, what they share is taken out once.
			outer := &spans[s.Outer]
			outer.Own -= max(0, s.Inst.Made-max(s.from(), outer.upTo))
			outer.upTo = max(outer.upTo, s.Inst.Made)
		}
		n.stack = append(n.stack, k)
	}
	return spans
}

// Spans returns the constructions in a scope that has closed, nested, while it is told of. It is worked out once for all
// who ask. The result is good until another scope is asked for.
func (w *World) Spans(s *Scope) []Span {
	if w.spansOf != s {
		w.spansOf, w.spans = s, w.nesting.Of(s.Built)
	}
	return w.spans
}
