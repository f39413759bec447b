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

// SharingQuery is which scopes are put side by side, and what of them.
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
	Name      string     `json:"name"`   // of the scopes, if they were chosen by one
	Last      int        `json:"last"`   // how many scopes were asked for, where they were chosen by their name
	Depth     int        `json:"depth"`  // how many steps from the entry point are unfolded
	Scopes    []ScopeRow `json:"scopes"` // the root first, if anything was built in it
	Rows      []BoardRow `json:"rows"`   // by service, those whose verdict disagrees first
	Total     int        `json:"total"`
	Held      []HeldBy   `json:"held"` // by service: who holds which instance, of this page's rows
}

// HeldBy is one instance and who holds it in the scopes of a board.
type HeldBy struct {
	Of       finding.Ref `json:"of"`
	Instance uint64      `json:"instance"`
	Mark     string      `json:"mark"`
	By       []string    `json:"by"`     // consumers and entry points, as the board's rows name them
	Scopes   int         `json:"scopes"` // of the board, in which it is held
}

// maxHeld bounds HeldBy lists.
const maxHeld = 500

// BoardRow is one consumer and what it asked for.
type BoardRow struct {
	Of       finding.Ref    `json:"of"`   // what was given
	Path     []string       `json:"path"` // from the entry point to the consumer
	Site     string         `json:"site"`
	All      bool           `json:"all"` // a list: all of a service were asked for, and a cell shows its members in order
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
	Kept      bool     `json:"kept"`   // not handed out here: what was received keeps it from an earlier scope
	Empty     bool     `json:"empty"`  // an empty list was given
}

// Sharing answers: is it the same object? In one scope for several consumers, and from one scope to the next.
func Sharing(src *Source, q SharingQuery) (Board, error) {
	q.Last, q.Depth = min(cmp.Or(max(q.Last, 0), DefaultBoardScopes), MaxBoardScopes), min(cmp.Or(max(q.Depth, 0), DefaultBoardDepth), MaxBoardDepth)
	b := Board{Recording: src.Recording, Stream: q.Stream, Name: q.Name, Last: q.Last, Depth: q.Depth, Scopes: []ScopeRow{}, Rows: []BoardRow{}, Held: []HeldBy{}}
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
	if len(q.Scopes) == 0 {
		b.dropEmptyRoots()
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
	b.held()
	return b, nil
}

// dropEmptyRoots takes the roots in which nothing of what was asked for was received out of the columns.
func (b *Board) dropEmptyRoots() {
	for n := 0; n < len(b.Scopes) && b.Scopes[n].Root; n++ {
		if len(b.Scopes) == 1 || slices.ContainsFunc(b.Rows, func(r BoardRow) bool { return r.Cells[n].Change != "none" }) {
			continue
		}
		b.Scopes = slices.Delete(b.Scopes, n, n+1)
		for k := range b.Rows {
			b.Rows[k].Cells = slices.Delete(b.Rows[k].Cells, n, n+1)
		}
		n--
	}
}

// held returns which instances keep which.
func (b *Board) held() {
	at := map[uint64]int{}
	seen := map[uint64]map[int]bool{}
	for n := range b.Rows {
		row := &b.Rows[n]
		by := row.Path[len(row.Path)-1]
		for k := range row.Cells {
			for _, inst := range row.Cells[k].Instances {
				i, known := at[inst]
				if !known {
					if len(b.Held) == maxHeld || row.All {
						continue
					}
					i = len(b.Held)
					at[inst], seen[inst] = i, map[int]bool{}
					b.Held = append(b.Held, HeldBy{Of: row.Of, Instance: inst, Mark: finding.Mark(inst), By: []string{}})
				}
				if one := &b.Held[i]; !slices.Contains(one.By, by) && len(one.By) < maxCellMarks {
					one.By = append(one.By, by)
				}
				seen[inst][k] = true
			}
		}
	}
	for n := range b.Held {
		b.Held[n].Scopes = len(seen[b.Held[n].Instance])
	}
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
			if list := names(s.State()); len(list) > 0 {
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
	if len(q.Scopes) == 0 {
		// What was built outside any scope, of which the scopes receive.
		var roots []derive.Scope
		for _, root := range s.Head.Roots {
			if root.Made > 0 && len(roots) < maxBoardRoots {
				roots = append(roots, root)
			}
		}
		scopes = append(roots, scopes...)
	}
	for _, row := range scopes {
		b.Scopes = append(b.Scopes, rowOf(s, q.Stream, &row))
	}
	return scopes, nil
}

// maxBoardRoots bounds how many containers' roots a board shows.
const maxBoardRoots = 4

// receipt is one thing received in a scope, or a list of them.
type receipt struct {
	from  uint64 // the instance that received it; 0: an entry point
	who   string // the entry point
	insts []uint64
	site  string
	all   bool
	of    derive.Name // what was asked for, of a list
	kept  bool        // since an earlier scope
}

// reception is all that was received in one scope.
type reception struct {
	scope derive.Scope
	res   *resolver
	list  []receipt
	by    map[uint64][]int // receipts of an instance
	made  map[uint64]bool
	given map[uint64]bool // to any receiver in this scope
}

// receipts reads who received what in one scope.
func receipts(s *StreamSource, res *resolver, scope derive.Scope) (*reception, error) {
	r := &reception{scope: scope, res: res, by: map[uint64][]int{}, made: map[uint64]bool{}, given: map[uint64]bool{}}
	id := event.ScopeID(scope.ID)
	lines := int64(maxStoryLines)
	if scope.Root {
		lines = maxRootLines
	}
	lists := map[receiptOf]int{}
	err := s.Lines.Between(scope.Line, min(scope.LastLine, scope.Line+lines), func(e *event.Event) bool {
		if e.Kind == event.Make {
			m := res.note(e)
			if e.Scope != id {
				return true
			}
			r.made[m.id] = true
			for _, x := range builtWith(s.State(), &m) {
				r.add(x)
			}
		}
		if e.Kind == event.Give && e.Scope == id && e.Has.Has(event.FScope) {
			x := receipt{from: uint64(e.To), who: e.Entry, insts: []uint64{uint64(e.Inst)}, site: e.Site, all: e.All, of: derive.Name{Service: e.Service}}
			if e.Has.Has(event.FKey) {
				key := e.Key
				x.of.Key = &key
			}
			if k := (receiptOf{x.from, x.who, x.site, e.Service, e.Key}); e.All {
				if at, known := lists[k]; known {
					r.list[at].insts = append(r.list[at].insts, x.insts...)
					r.given[x.insts[0]] = true
					return true
				}
				lists[k] = len(r.list)
			}
			r.add(x)
		}
		return true
	})
	return r, err
}

// receiptOf is what the members of one list have in common.
type receiptOf struct {
	from                    uint64
	who, site, service, key string
}

// maxRootLines bounds the lines that are read of a root for a board: its start.
const maxRootLines = 50_000

func (r *reception) add(x receipt) {
	if len(r.list) == maxStoryRows {
		return
	}
	r.by[x.from] = append(r.by[x.from], len(r.list))
	r.list = append(r.list, x)
	if x.from != 0 || x.who != "" {
		for _, inst := range x.insts {
			r.given[inst] = true
		}
	}
}

// builtWith returns what an instance was built with, the members of a list together.
func builtWith(s *derive.State, m *made) (list []receipt) {
	for n := range m.with {
		w := &m.with[n]
		if w.Inst == 0 && !(w.All && w.Absent) {
			continue
		}
		var insts []uint64
		if w.Inst != 0 {
			insts = []uint64{uint64(w.Inst)}
		}
		if last := len(list) - 1; w.All && n > 0 && m.with[n-1].All && m.with[n-1].Slot == w.Slot && last >= 0 {
			list[last].insts = append(list[last].insts, insts...)
			continue
		}
		x := receipt{from: m.id, insts: insts, site: w.Site, all: w.All, of: derive.Name{Service: w.Service}}
		if w.HasKey {
			key := w.Key
			x.of.Key = &key
		}
		if m.reg >= 0 {
			if need := s.Registrations[m.reg].NeedAt(w.Slot); need != nil {
				x.site = cmp.Or(x.site, need.Site)
				if x.of.Service == "" {
					x.of = derive.Name{Service: need.Service, Key: need.Key}
				}
			}
		}
		list = append(list, x)
	}
	return list
}

// into puts what was received in the n-th scope into the board: from the entry points inwards, then what no entry point
// leads to.
func (r *reception) into(b *Board, rows map[string]int, n int, q *SharingQuery) error {
	put := 0
	var walk func(x receipt, path []string, level int, above []uint64) error
	walk = func(x receipt, path []string, level int, above []uint64) error {
		if put++; put > maxBoardSteps {
			return nil
		}
		name, err := r.put(b, rows, n, q, x, path, level)
		if err != nil || level+1 >= q.Depth {
			return err
		}
		path = append(slices.Clone(path), name)
		for _, inst := range x.insts {
			if slices.Contains(above, inst) {
				continue
			}
			below := make([]receipt, 0, len(r.by[inst]))
			for _, k := range r.by[inst] {
				below = append(below, r.list[k])
			}
			if !r.made[inst] { // what it keeps since it was built
				m, _, err := r.res.read(inst)
				if err != nil {
					return err
				}
				for _, y := range builtWith(r.res.stream.State(), &m) {
					y.kept = true
					below = append(below, y)
				}
			}
			for _, y := range below {
				if err := walk(y, path, level+1, append(above, inst)); err != nil {
					return err
				}
			}
		}
		return nil
	}
	for _, x := range r.list {
		switch {
		case x.from == 0:
			if err := walk(x, []string{cmp.Or(x.who, NotSeen)}, 0, nil); err != nil {
				return err
			}
		case !r.given[x.from]:
			ref, _, err := r.res.ref(x.from)
			if err != nil {
				return err
			}
			if err := walk(x, []string{r.res.called(ref)}, 0, []uint64{x.from}); err != nil {
				return err
			}
		}
	}
	return nil
}

// maxBoardSteps bounds how many things are unfolded in one scope.
const maxBoardSteps = 20_000

// put adds a receipt to its row, and returns the name of what was received.
func (r *reception) put(b *Board, rows map[string]int, n int, q *SharingQuery, x receipt, path []string, level int) (string, error) {
	ref, reg, err := finding.Ref{}, derive.None, error(nil)
	if len(x.insts) > 0 && !(x.all && x.of.Service != "") {
		if ref, reg, err = r.res.ref(x.insts[0]); err != nil {
			return "", err
		}
	} else {
		ref = finding.Ref{Service: cmp.Or(x.of.Service, "a list"), Key: x.of.Key}
	}
	name := r.res.called(ref)
	if x.all {
		name = "all of " + name
	}
	if !q.names(ref.Service, keyOf(ref.Key), ref.Impl(), x.of.Service) || q.Lifetime != "" && ref.Lifetime != q.Lifetime ||
		q.Consumer != "" && !slices.ContainsFunc(path, func(s string) bool { return holds(s, q.Consumer) }) {
		return name, nil
	}
	// The entry point is the same in all scopes of a name in what matters; where it differs, it makes its own rows.
	key := fmt.Sprint(reg, "\x00", ref.Service, "\x00", keyOf(ref.Key), "\x00", x.all, x.site, "\x00", strings.Join(path, "\x00"))
	at, ok := rows[key]
	if !ok {
		if len(b.Rows) == maxBoardRows {
			return name, nil
		}
		at = len(b.Rows)
		rows[key] = at
		row := BoardRow{Of: ref, Path: path, Site: x.site, All: x.all, Depth: level, Observed: derive.Verdict{As: derive.BehavedUnknown}}
		if reg >= 0 {
			row.Observed = r.res.stream.State().Registrations[reg].Verdict
		}
		b.Rows = append(b.Rows, row)
	}
	row := &b.Rows[at]
	for len(row.Cells) <= n {
		row.Cells = append(row.Cells, BoardCell{Instances: []uint64{}, Marks: []string{}})
	}
	cell := &row.Cells[n]
	cell.Empty = len(x.insts) == 0
	fresh := len(cell.Instances) == 0
	for _, inst := range x.insts {
		if !slices.Contains(cell.Instances, inst) && len(cell.Instances) < maxCellMarks {
			cell.Instances = append(cell.Instances, inst)
			cell.Marks = append(cell.Marks, finding.Mark(inst))
		}
		cell.Shared = !r.made[inst]
	}
	cell.Kept = x.kept && (fresh || cell.Kept)
	return name, nil
}

// maxCellMarks bounds what one cell shows.
const maxCellMarks = 16

// finish fills the row up to n cells and returns which changed.
func (row *BoardRow) finish(n int) {
	for len(row.Cells) < n {
		row.Cells = append(row.Cells, BoardCell{Instances: []uint64{}, Marks: []string{}})
	}
	var before []uint64
	any := false
	for k := range row.Cells {
		c := &row.Cells[k]
		switch {
		case len(c.Instances) == 0 && !c.Empty:
			c.Change = "none"
			continue
		case !any:
			c.Change = "first"
		case slices.Equal(before, c.Instances):
			c.Change, c.Same = "same", true
		default:
			c.Change = "changed"
		}
		before, any = c.Instances, true
	}
}
