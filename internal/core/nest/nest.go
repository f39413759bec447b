// Package nest finds out which constructions ran within which others, from when each ended and how long it took. It is a
// leaf: it knows times only.
package nest

import (
	"cmp"
	"slices"
)

// Span is one construction: from End - NS to End.
type Span struct {
	N       int // its place among those added, from 0
	End, NS int64
	Outer   int   // the span around it, by its place among the spans; -1 where there is none
	Depth   int   // how many are around it
	Own     int64 // ns: its time without what ran within it
	upTo    int64 // until when its time has been taken out
	seq     int64
}

// Start returns when it began.
func (s *Span) Start() int64 { return s.End - s.NS }

// Nesting takes constructions and nests them. It keeps its room between calls; the zero value is ready.
type Nesting struct {
	spans []Span // as they were added
	order []int32
	out   []Span
	stack []int
}

// Reset forgets what was added.
func (n *Nesting) Reset() { n.spans = n.spans[:0] }

// Add takes a construction that ended at a time, in ns, and took so long; 0: that is not known. Seq is the order in which
// constructions were noted.
func (n *Nesting) Add(end, ns, seq int64) {
	n.spans = append(n.spans, Span{N: len(n.spans), End: end, NS: ns, Outer: -1, Own: ns, seq: seq})
}

// compare returns which of two constructions comes first: less than 0 for a.
func compare(a, b *Span) int {
	if from, other := a.Start(), b.Start(); from != other {
		return cmp.Compare(from, other)
	}
	if a.End != b.End {
		return cmp.Compare(b.End, a.End)
	}
	if a.NS == 0 && b.NS == 0 {
		return cmp.Compare(a.seq, b.seq)
	}
	return cmp.Compare(b.seq, a.seq)
}

// fewSpans is up to how many are put in order one by one: nearly all scopes have fewer, and they come nearly in order.
const fewSpans = 64

// sort puts the spans in order. It moves their numbers rather than themselves.
func (n *Nesting) sort() {
	n.order = n.order[:0]
	for k := range n.spans {
		n.order = append(n.order, int32(k))
	}
	if len(n.spans) > fewSpans {
		slices.SortStableFunc(n.order, func(a, b int32) int { return compare(&n.spans[a], &n.spans[b]) })
	} else {
		for k := 1; k < len(n.order); k++ {
			one, at := n.order[k], k
			for ; at > 0 && compare(&n.spans[one], &n.spans[n.order[at-1]]) < 0; at-- {
				n.order[at] = n.order[at-1]
			}
			n.order[at] = one
		}
	}
	n.out = n.out[:0]
	for _, k := range n.order {
		n.out = append(n.out, n.spans[k])
	}
}

// Spans returns the constructions by their start, an outer one before what it holds. What took exactly the same time lies
// in what was noted after it: construction ends on the inside first. Those whose time is not known hold nothing and stay
// in the order in which they were noted. The result is good until the next Reset. It takes n log n for n constructions.
func (n *Nesting) Spans() []Span {
	n.sort()
	spans := n.out
	n.stack = n.stack[:0]
	for k := range spans {
		s := &spans[k]
		s.upTo = s.Start()
		for len(n.stack) > 0 {
			if top := &spans[n.stack[len(n.stack)-1]]; top.End >= s.End && top.NS > 0 {
				break
			}
			n.stack = n.stack[:len(n.stack)-1]
		}
		s.Depth = len(n.stack)
		if len(n.stack) > 0 {
			s.Outer = n.stack[len(n.stack)-1]
			// Of constructions that ran side by side, what they share is taken out once.
			outer := &spans[s.Outer]
			outer.Own -= max(0, s.End-max(s.Start(), outer.upTo))
			outer.upTo = max(outer.upTo, s.End)
		}
		n.stack = append(n.stack, k)
	}
	return spans
}
