package ledger

import "keenlantern.example/internal/core/nest"

// Span is one timed construction in a scope.
type Span struct {
	nest.Span
	Inst *Instance
}

// Spans returns the constructions in a scope that has closed, nested, while it is reported; those whose time is not known
// are left out. It is computed once for all callers. The result is good until another scope is asked for.
func (w *World) Spans(s *Scope) []Span {
	if w.spansOf == s {
		return w.spans
	}
	w.spansOf, w.spans = s, w.spans[:0]
	w.nesting.Reset()
	w.timed = w.timed[:0]
	w.Step(len(s.Built))
	for _, i := range s.Built {
		if i.NS > 0 {
			w.nesting.Add(i.Made, i.NS, i.MadeSeq)
			w.timed = append(w.timed, i)
		}
	}
	for _, span := range w.nesting.Spans() {
		w.spans = append(w.spans, Span{span, w.timed[span.N]})
	}
	return w.spans
}
