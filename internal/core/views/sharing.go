package views

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// SharingQuery says which scopes are put side by side, and what of them.
type SharingQuery struct {
	Filter
	Stream   int
	Name     string   // scopes of this name; "": of the commonest
	Last     int      // how many of them, the latest; 0: DefaultBoardScopes
	Scopes   []uint64 // or just these
	Consumer string   // a part of the asking consumer's or entry point's name
	Depth    int      // how many steps from the entry point are unfolded; 0: DefaultBoardDepth
}

// maxBoardRows bounds a board.
const maxBoardRows = 2000

// Board shows which instance each consumer was given in each of a few scopes.
type Board struct {
	Recording string     `json:"recording"`
	Stream    int        `json:"stream"`
	Name      string     `json:"name"`  // of the scopes, if they were chosen by one
	Last      int        `json:"last"`  // how many scopes were asked for, where they were chosen by their name
	Depth     int        `json:"depth"` // how many steps from the entry point are unfolded
	Scopes    []ScopeRow `json:"scopes"`
	Rows      []BoardRow `json:"rows"` // by service, those whose verdict disagrees first
	Total     int        `json:"total"`
}

// BoardRow is one consumer and what it asked for.
type BoardRow struct {
	Of       finding.Ref    `json:"of"`   // what was given
	Path     []string       `json:"path"` // from the entry point to the consumer
	Site     string         `json:"site"`
	Depth    int            `json:"depth"`
	Observed derive.Verdict `json:"observed"`
	Cells    []BoardCell    `json:"cells"` // one for each scope
}

// BoardCell is what was given in one scope.
type BoardCell struct {
	Instances []uint64 `json:"instances"`
	Marks     []string `json:"marks"`
	Same      bool     `json:"same"`   // the same as in the column before
	Change    string   `json:"change"` // "first", "same", "changed", "none"
	Shared    bool     `json:"shared"` // built outside this scope
}

// Sharing answers: is it the same object? In one scope for several consumers, and from one scope to the next.
func Sharing(src *Source, q SharingQuery) (Board, error) {
	q.Last, q.Depth = min(cmp.Or(max(q.Last, 0), DefaultBoardScopes), MaxBoardScopes), min(cmp.Or(max(q.Depth, 0), DefaultBoardDepth), MaxBoardDepth)
	b := Board{Recording: src.Recording, Stream: q.Stream, Name: q.Name, Last: q.Last, Depth: q.Depth, Scopes: []ScopeRow{}, Rows: []BoardRow{}}
	if q.Stream < 0 || q.Stream >= len(src.Streams) {
		return b, &ErrNoScope{uint64(q.Stream), 0}
	}
	s := &src.Streams[q.Stream]
	scopes, err := boardScopes(src, s, &q, &b)
	if err != nil {
		return b, err
	}
	res := newResolver(s)
	rows := map[string]int{}
	for n, scope := range scopes {
		got, err := receipts(s, res, scope)
		if err != nil {
			return b, err
		}
		if err := got.into(&b, rows, n, &q); err != nil {
			return b, err
		}
	}
	for n := range b.Rows {
		b.Rows[n].finish(len(scopes))
	}
	disagrees := func(v derive.Verdict) int {
		if v.Agrees != nil && !*v.Agrees {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(b.Rows, func(x, y BoardRow) int {
		return cmp.Or(cmp.Compare(disagrees(x.Observed), disagrees(y.Observed)), cmp.Compare(x.Of.Name(), y.Of.Name()), cmp.Compare(x.Depth, y.Depth),
			cmp.Compare(strings.Join(x.Path, " "), strings.Join(y.Path, " ")))
	})
	b.Total = len(b.Rows)
	b.Rows = page(b.Rows, &q.Filter)
	return b, nil
}

// boardScopes chooses the columns, in the order in which the scopes opened.
func boardScopes(src *Source, s *StreamSource, q *SharingQuery, b *Board) ([]derive.Scope, error) {
	var scopes []derive.Scope
	if len(q.Scopes) > 0 {
		for _, id := range q.Scopes[:min(len(q.Scopes), MaxBoardScopes)] {
			row, ok, err := findScope(s, id)
			if err != nil {
				return nil, err
			}
			if !ok {
				return nil, &ErrNoScope{uint64(q.Stream), id}
			}
			scopes = append(scopes, row)
		}
		b.Name = ""
	} else {
		if b.Name == "" {
			if list := names(s.State); len(list) > 0 {
				b.Name = list[0].Name
			}
		}
		if q.Last <= 0 {
			q.Last = 10
		}
		found, err := findScopes(s, &ScopeQuery{Name: b.Name}, min(q.Last, MaxBoardScopes))
		if err != nil {
			return nil, err
		}
		scopes = found
		slices.SortStableFunc(scopes, func(x, y derive.Scope) int { return cmp.Or(cmp.Compare(x.Opened, y.Opened), cmp.Compare(x.ID, y.ID)) })
	}
	for _, row := range scopes {
		b.Scopes = append(b.Scopes, rowOf(s, q.Stream, &row))
	}
	return scopes, nil
}

// receipt is one thing received in a scope.
type receipt struct {
	from uint64 // the instance that received it; 0: an entry point
	who  string // the entry point
	inst uint64
	site string
}

// reception is all that was received in one scope.
type reception struct {
	scope derive.Scope
	res   *resolver
	list  []receipt
	by    map[uint64][]int // receipts of an instance
	made  map[uint64]bool
	given map[uint64]bool // to anybody in this scope
}

// receipts reads who received what in one scope.
func receipts(s *StreamSource, res *resolver, scope derive.Scope) (*reception, error) {
	r := &reception{scope: scope, res: res, by: map[uint64][]int{}, made: map[uint64]bool{}, given: map[uint64]bool{}}
	add := func(x receipt) {
		if len(r.list) < maxStoryRows {
			r.by[x.from] = append(r.by[x.from], len(r.list))
			r.list = append(r.list, x)
			if x.from != 0 || x.who != "" {
				r.given[x.inst] = true
			}
		}
	}
	id := event.ScopeID(scope.ID)
	err := s.Lines.Between(scope.Line, min(scope.LastLine, scope.Line+maxStoryLines), func(e *event.Event) bool {
		if e.Kind == event.Make {
			m := res.note(e)
			if e.Scope != id {
				return true
			}
			r.made[m.id] = true
			for _, w := range e.With {
				if w.Inst == 0 {
					continue
				}
				site := w.Site
				if site == "" && m.reg >= 0 {
					site = s.State.Registrations[m.reg].SiteAt(w.Slot)
				}
				add(receipt{from: m.id, inst: uint64(w.Inst), site: site})
			}
		}
		if e.Kind == event.Give && e.Scope == id && e.Has.Has(event.FScope) {
			add(receipt{from: uint64(e.To), who: e.Entry, inst: uint64(e.Inst), site: e.Site})
		}
		return true
	})
	return r, err
}

// into puts what was received in the n-th scope into the board: from the entry points inwards, then what no entry point
// leads to.
func (r *reception) into(b *Board, rows map[string]int, n int, q *SharingQuery) error {
	var walk func(x receipt, path []string, level int, above []uint64) error
	walk = func(x receipt, path []string, level int, above []uint64) error {
		ref, reg, err := r.res.ref(x.inst)
		if err != nil {
			return err
		}
		if err := r.put(b, rows, n, q, x, ref, reg, path, level); err != nil {
			return err
		}
		if level+1 >= q.Depth || slices.Contains(above, x.inst) {
			return nil
		}
		path = append(slices.Clone(path), ref.Name())
		for _, k := range r.by[x.inst] {
			if err := walk(r.list[k], path, level+1, append(above, x.inst)); err != nil {
				return err
			}
		}
		return nil
	}
	for _, x := range r.list {
		switch {
		case x.from == 0:
			if err := walk(x, []string{cmp.Or(x.who, "somebody not seen")}, 0, nil); err != nil {
				return err
			}
		case !r.given[x.from]:
			ref, _, err := r.res.ref(x.from)
			if err != nil {
				return err
			}
			if err := walk(x, []string{ref.Name()}, 0, []uint64{x.from}); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *reception) put(b *Board, rows map[string]int, n int, q *SharingQuery, x receipt, ref finding.Ref, reg int, path []string, level int) error {
	if !q.names(ref.Service, keyOf(ref.Key), ref.Impl()) || q.Lifetime != "" && ref.Lifetime != q.Lifetime ||
		q.Consumer != "" && !slices.ContainsFunc(path, func(s string) bool { return holds(s, q.Consumer) }) {
		return nil
	}
	// The entry point is the same in all scopes of a name in what matters; where it says more, it makes its own rows.
	key := fmt.Sprint(reg, "\x00", ref.Service, "\x00", keyOf(ref.Key), "\x00", x.site, "\x00", strings.Join(path, "\x00"))
	at, ok := rows[key]
	if !ok {
		if len(b.Rows) == maxBoardRows {
			return nil
		}
		at = len(b.Rows)
		rows[key] = at
		row := BoardRow{Of: ref, Path: path, Site: x.site, Depth: level, Observed: derive.Verdict{As: derive.BehavedUnknown}}
		if reg >= 0 {
			row.Observed = r.res.stream.State.Registrations[reg].Verdict
		}
		b.Rows = append(b.Rows, row)
	}
	row := &b.Rows[at]
	for len(row.Cells) <= n {
		row.Cells = append(row.Cells, BoardCell{Instances: []uint64{}, Marks: []string{}})
	}
	cell := &row.Cells[n]
	if !slices.Contains(cell.Instances, x.inst) && len(cell.Instances) < maxCellMarks {
		cell.Instances = append(cell.Instances, x.inst)
		cell.Marks = append(cell.Marks, finding.Mark(x.inst))
	}
	cell.Shared = !r.made[x.inst]
	return nil
}

// maxCellMarks bounds what one cell shows.
const maxCellMarks = 16

// finish fills the row up to n cells and tells which changed.
func (row *BoardRow) finish(n int) {
	for len(row.Cells) < n {
		row.Cells = append(row.Cells, BoardCell{Instances: []uint64{}, Marks: []string{}})
	}
	var before []uint64
	for k := range row.Cells {
		c := &row.Cells[k]
		switch {
		case len(c.Instances) == 0:
			c.Change = "none"
			continue
		case before == nil:
			c.Change = "first"
		case slices.Equal(before, c.Instances):
			c.Change, c.Same = "same", true
		default:
			c.Change = "changed"
		}
		before = c.Instances
	}
}
