package views

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// ByHandView is what application code constructs past the container: what remains to be moved into it.
type ByHandView struct {
	Recording string      `json:"recording"`
	Places    []ByHandRow `json:"places"`
	Total     int         `json:"total"`
}

// ByHandRow is one implementation at one place.
type ByHandRow struct {
	Implementation string       `json:"implementation"`
	At             string       `json:"at"` // "" where that is not known
	Count          int64        `json:"count"`
	Disposed       int64        `json:"disposed"`
	Registered     *finding.Ref `json:"registered"` // what is registered with this implementation; nil: nothing
	GivenTo        []Asker      `json:"given_to"`   // who received such instances, wherever they were constructed
}

// ByHand answers: which places construct by hand, and what is registered for each? Those whose implementation is registered come
// first, then the busiest.
func ByHand(src *Source, f Filter) ByHandView {
	s := src.State()
	registered := map[string]int{}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if _, known := registered[r.Impl]; r.Impl != "" && !known && !r.Internal && r.Alias < 0 {
			registered[r.Impl] = n
		}
	}
	given := map[string]*askers{}
	for n := range s.Handouts {
		if h := &s.Handouts[n]; h.Given == derive.None {
			if given[h.Impl] == nil {
				given[h.Impl] = &askers{}
			}
			given[h.Impl].add(askerOf(s, h))
		}
	}
	list := []ByHandRow{}
	for _, hand := range s.ByHand {
		row := ByHandRow{Implementation: hand.Impl, At: hand.At, Count: hand.Count, Disposed: hand.Disposed, GivenTo: []Asker{}}
		if to := given[hand.Impl]; to != nil {
			row.GivenTo = to.busiest()
		}
		names := []string{hand.Impl, hand.At}
		if n, ok := registered[hand.Impl]; ok {
			row.Registered = refAt(s, n)
			names = append(names, row.Registered.Service)
		}
		if f.names(names...) {
			list = append(list, row)
		}
	}
	slices.SortStableFunc(list, func(a, b ByHandRow) int {
		if (a.Registered == nil) != (b.Registered == nil) {
			return map[bool]int{true: 1, false: -1}[a.Registered == nil]
		}
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Implementation, b.Implementation), cmp.Compare(a.At, b.At))
	})
	return ByHandView{Recording: src.Recording, Places: page(list, &f), Total: len(list)}
}
