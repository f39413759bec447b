package views

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// LayersView is where decorators stand.
type LayersView struct {
	Recording string     `json:"recording"`
	Stacks    []StackRow `json:"stacks"`
	Total     int        `json:"total"`
	UseSeen   bool       `json:"use_seen"` // calls were recorded; otherwise their counts mean nothing
}

// StackRow is the layers of one service and key.
type StackRow struct {
	Service  string      `json:"service"`
	Key      *string     `json:"key"`
	Declared bool        `json:"declared"` // by registrations; otherwise inferred from what was built
	Layers   []LayerRow  `json:"layers"`   // outermost first
	Seen     []SeenStack `json:"seen"`     // what was handed out
}

// LayerRow is one layer of a stack.
type LayerRow struct {
	ID    int         `json:"id"` // -1: it has no registration
	Of    finding.Ref `json:"of"`
	Made  int64       `json:"made"`
	Calls int64       `json:"calls"` // that reached it; what a remembering layer answers itself does not reach the next
}

// SeenStack is a stack as it was handed out, and to whom.
type SeenStack struct {
	Layers []finding.Ref `json:"layers"` // outermost first
	Who    []Asker       `json:"who"`    // the first MaxAskers
	Askers int           `json:"askers"` // how many there are
	Count  int64         `json:"count"`
	asked  askers
	Whole  bool `json:"whole"` // it begins at the outermost layer and leaves none out
}

// Layers answers: is the decorator where it should be, who bypasses it, and how many calls reach each layer?
func Layers(src *Source, f Filter) LayersView {
	s := src.State()
	v := LayersView{Recording: src.Recording, Stacks: []StackRow{}, UseSeen: s.UseSeen && usesSeen(s)}
	inStack := map[int]int{} // registration → stack
	around := structureOf(s)
	for n := range s.Registrations {
		// From each innermost one outwards; several layers around one make several stacks, of which the last counts.
		if s.Registrations[n].Wraps >= 0 || len(around.outer[n]) == 0 {
			continue
		}
		regs := []int{n}
		for at := n; len(regs) < 32; {
			outer := around.outer[at]
			if len(outer) == 0 || slices.Contains(regs, outer[len(outer)-1]) {
				break
			}
			at = outer[len(outer)-1]
			regs = append(regs, at)
		}
		slices.Reverse(regs)
		top := &s.Registrations[regs[0]]
		row := StackRow{Service: top.Service, Key: top.Key, Declared: true, Layers: []LayerRow{}, Seen: []SeenStack{}}
		for _, k := range regs {
			inStack[k] = len(v.Stacks)
			r := &s.Registrations[k]
			row.Layers = append(row.Layers, LayerRow{ID: k, Of: r.Ref(), Made: r.Made, Calls: r.Used})
		}
		v.Stacks = append(v.Stacks, row)
	}
	inferred := map[asked]int{}
	for n := range s.Handouts {
		h := &s.Handouts[n]
		at, declared := inStack[h.Given]
		if !declared {
			var ok bool
			if at, ok = infer(s, h, inferred, &v); !ok {
				continue
			}
		}
		// An inner layer given to the layer around it is how stacks are built, and no bypass.
		if h.Consumer >= 0 && s.Registrations[h.Consumer].Wraps >= 0 && slices.Contains(ids(v.Stacks[at].Layers), h.Consumer) {
			continue
		}
		if !declared && insideItself(s, h) {
			continue
		}
		v.Stacks[at].see(s, h)
	}
	out := []StackRow{}
	for _, row := range v.Stacks {
		names := []string{row.Service, keyOf(row.Key)}
		for _, l := range row.Layers {
			names = append(names, l.Of.Service, l.Of.Impl())
		}
		if !f.names(names...) {
			continue
		}
		for n := range row.Seen {
			row.Seen[n].Who, row.Seen[n].Askers = row.Seen[n].asked.busiest(), len(row.Seen[n].asked.list)
		}
		slices.SortStableFunc(row.Seen, func(a, b SeenStack) int { return cmp.Compare(b.Count, a.Count) })
		out = append(out, row)
	}
	v.Total = len(out)
	v.Stacks = page(out, &f)
	return v
}

// usesSeen reports whether any call was recorded: a recorder that is able to see them may be configured not to.
func usesSeen(s *derive.State) bool {
	return slices.ContainsFunc(s.Registrations, func(r derive.Registration) bool { return r.Used > 0 })
}

func ids(layers []LayerRow) []int {
	list := make([]int, 0, len(layers))
	for _, l := range layers {
		list = append(list, l.ID)
	}
	return list
}

// insideItself reports whether the consumer is a layer of the same service: what it is given is its inner one.
func insideItself(s *derive.State, h *derive.Handout) bool {
	if h.Consumer < 0 || h.Given < 0 {
		return false
	}
	a, b := &s.Registrations[h.Consumer], &s.Registrations[h.Given]
	return a.Service == b.Service && keyOf(a.Key) == keyOf(b.Key)
}

// infer returns the stack of a service whose layers nothing declares: the longest chain that was seen.
func infer(s *derive.State, h *derive.Handout, at map[asked]int, v *LayersView) (int, bool) {
	k := askedOf(h.Asked)
	n, ok := at[k]
	for _, c := range h.Chains {
		if len(c.Layers) < 2 {
			continue
		}
		if !ok {
			n, ok = len(v.Stacks), true
			at[k] = n
			v.Stacks = append(v.Stacks, StackRow{Service: h.Asked.Service, Key: h.Asked.Key, Layers: []LayerRow{}, Seen: []SeenStack{}})
		}
		if row := &v.Stacks[n]; len(c.Layers) > len(row.Layers) {
			row.Layers = row.Layers[:0]
			for _, l := range c.Layers {
				one := LayerRow{ID: l.Reg, Of: layerRef(s, l)}
				if l.Reg >= 0 {
					one.Made, one.Calls = s.Registrations[l.Reg].Made, s.Registrations[l.Reg].Used
				}
				row.Layers = append(row.Layers, one)
			}
		}
	}
	return n, ok
}

func layerRef(s *derive.State, l derive.Layer) finding.Ref {
	if ref := refAt(s, l.Reg); ref != nil {
		if l.Impl != "" {
			ref.Implementation = finding.Text(l.Impl)
		}
		return *ref
	}
	return finding.Ref{Service: l.Impl, Implementation: finding.Text(l.Impl)}
}

// see adds a hand-out to what was seen of the stack.
func (row *StackRow) see(s *derive.State, h *derive.Handout) {
	chains := h.Chains
	if len(chains) == 0 {
		chains = []derive.Chain{{Layers: []derive.Layer{{Reg: h.Given, Impl: h.Impl}}}}
	}
	// A hand-out whose examples had several stacks is counted with the first; the others are shown all the same.
	for n, c := range chains {
		one := SeenStack{Layers: []finding.Ref{}, Whole: len(c.Layers) == len(row.Layers)}
		for k, l := range c.Layers {
			one.Layers = append(one.Layers, layerRef(s, l))
			one.Whole = one.Whole && row.Layers[k].ID == l.Reg
		}
		if n == 0 {
			one.Count = h.Count
		}
		same := slices.IndexFunc(row.Seen, func(o SeenStack) bool {
			return slices.EqualFunc(o.Layers, one.Layers, func(a, b finding.Ref) bool {
				return a.Name() == b.Name() && a.Impl() == b.Impl() && a.Place() == b.Place()
			})
		})
		if same < 0 {
			same = len(row.Seen)
			row.Seen = append(row.Seen, SeenStack{Layers: one.Layers, Whole: one.Whole})
		}
		row.Seen[same].Count += one.Count
		row.Seen[same].asked.add(askerOf(s, h))
	}
}
