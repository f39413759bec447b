package views

import (
	"cmp"
	"fmt"
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/nest"
	"keenlantern.example/record/event"
)

// maxStoryLines bounds the lines that are read for one scope; maxStoryRows the rows of each part of the story.
const (
	maxStoryLines = 200_000
	maxStoryRows  = 2000
)

// Thing is an instance in a story.
type Thing struct {
	Instance uint64      `json:"instance"`
	Mark     string      `json:"mark"`
	Reg      int         `json:"reg"` // the registration's id; -1: none
	Of       finding.Ref `json:"of"`
}

// Built is one construction in a story.
type Built struct {
	Thing
	From   int64   `json:"from"` // ns since the scope opened
	TookNS int64   `json:"took_ns"`
	OwnNS  int64   `json:"own_ns"`
	Depth  int     `json:"depth"`
	Outer  int     `json:"outer"`           // which of this page's built it ran within; -1: none of them
	With   []Thing `json:"with"`            // what it was built with, the first few
	For    *Thing  `json:"for"`             // who received it first; nil: an entry point, or not seen
	Entry  string  `json:"entry,omitempty"` // the entry point that received it first

	Longest bool  `json:"longest"` // it is on the path that took longest: the longest construction, the longest within it, and so on
	Times   int   `json:"times"`   // constructions that it represents: more than 1 where repeats are shown once
	AllNS   int64 `json:"all_ns"`  // what these took
}

// Outside is an instance that came from outside the scope.
type Outside struct {
	Thing
	At   int64   `json:"at"` // ns since the scope opened: when it was first given or used here
	Uses int64   `json:"uses"`
	With []Thing `json:"with"` // what it has kept since it was built, the first few
}

// UseRow is what one instance was called, by whom.
type UseRow struct {
	Thing
	By     *Thing `json:"by"` // nil: not known
	Count  int64  `json:"count"`
	First  int64  `json:"first"` // ns since the scope opened
	Last   int64  `json:"last"`
	TookNS int64  `json:"took_ns"`
	After  bool   `json:"after"` // the last came after its disposal
}

// DisposedRow is a disposal in a story.
type DisposedRow struct {
	Thing
	At    int64  `json:"at"` // ns since the scope opened: when it began
	NS    int64  `json:"ns"`
	State string `json:"state"`
	By    string `json:"by"`
}

// Story is one scope in time.
type Story struct {
	Recording string        `json:"recording"`
	Scope     ScopeRow      `json:"scope"`
	Built     []Built       `json:"built"` // of this page
	Total     int           `json:"total"` // that the filter lets through, on all pages
	Outside   []Outside     `json:"outside"`
	Used      []UseRow      `json:"used"`
	Disposed  []DisposedRow `json:"disposed"`
	Left      []Thing       `json:"left"` // built here to be disposed, and not disposed by its end
	Inner     []uint64      `json:"inner"`
	Cut       string        `json:"cut"` // what was left out, "" if nothing
}

// ErrNoScope is returned when a recording has no such scope.
type ErrNoScope struct{ Stream, Scope uint64 }

// Error returns which scope.
func (e *ErrNoScope) Error() string { return fmt.Sprintf("there is no scope %d/%d", e.Stream, e.Scope) }

// TellScope answers: what was built, shared in, used and disposed in this scope, in time? Constructions are filtered and paged by f; with once,
// constructions of one registration in the same place are one row, the first of them, where there are more than FewBuilt.
func TellScope(src *Source, stream int, id uint64, f Filter, once bool) (Story, error) {
	story := Story{Recording: src.Recording, Built: []Built{}, Outside: []Outside{}, Used: []UseRow{}, Disposed: []DisposedRow{}, Left: []Thing{}, Inner: []uint64{}}
	if stream < 0 || stream >= len(src.Streams) {
		return story, &ErrNoScope{uint64(stream), id}
	}
	s := &src.Streams[stream]
	row, ok, err := findScope(s, id)
	if err != nil {
		return story, err
	}
	if !ok {
		return story, &ErrNoScope{uint64(stream), id}
	}
	story.Scope = rowOf(s, stream, &row)
	t := &teller{story: &story, opened: row.Opened, id: event.ScopeID(id), root: row.Root, res: newResolver(s)}
	last := min(row.LastLine+afterLines, row.Line+maxStoryLines)
	if last < row.LastLine {
		story.Cut = fmt.Sprintf("the scope spans %d lines, of which the first %d were read", row.LastLine-row.Line, maxStoryLines)
	}
	if err := s.Lines.Between(row.Line, last, t.line); err != nil {
		return story, err
	}
	if end := row.LastLine + afterLines; row.Root && last < row.LastLine {
		from := max(last+1, row.LastLine-maxEndLines)
		story.Cut = fmt.Sprintf("the root spans %d lines, of which the first %d and the last %d were read", row.LastLine-row.Line, maxStoryLines, end-from)
		if err := s.Lines.Between(from, end, t.line); err != nil {
			return story, err
		}
	}
	if err := t.finish(); err != nil {
		return story, err
	}
	story.narrow(&f, once)
	return story, nil
}

// FewBuilt is how many constructions are shown one by one in any case.
const FewBuilt = 60

// narrow keeps the constructions of one page.
func (s *Story) narrow(f *Filter, once bool) {
	markLongest(s.Built)
	once = once && len(s.Built) > FewBuilt
	type place struct {
		reg, depth, outer int
		impl              string
	}
	first := map[place]int{} // in the rows that are kept
	rows := []Built{}
	at := make([]int, len(s.Built)) // of each construction: its row, -1 where it has none
	for n := range at {
		at[n] = -1
	}
	for n := range s.Built {
		b := s.Built[n]
		b.Times, b.AllNS = 1, b.TookNS
		if !f.names(b.Of.Service, keyOf(b.Of.Key), b.Of.Impl()) {
			continue
		}
		outer := -1
		if b.Outer >= 0 {
			outer = at[b.Outer]
		}
		k := place{b.Reg, b.Depth, outer, b.Of.Impl()}
		if row, ok := first[k]; ok && once {
			one := &rows[row]
			one.Times++
			one.AllNS += b.TookNS
			one.Longest = one.Longest || b.Longest
			at[n] = row // what was built within it is within the row
			continue
		}
		at[n] = len(rows)
		first[k] = len(rows)
		b.Outer = outer
		rows = append(rows, b)
	}
	s.Total = len(rows)
	s.Built = page(rows, f)
	for n := range s.Built {
		if s.Built[n].Outer -= f.Offset; s.Built[n].Outer < 0 {
			s.Built[n].Outer = -1
		}
	}
}

// markLongest marks the construction that took longest, of those within no other, the longest within it, and so on.
func markLongest(built []Built) {
	within := make(map[int]int, len(built)) // the longest within each
	for n := range built {
		if best, ok := within[built[n].Outer]; !ok || built[n].TookNS > built[best].TookNS {
			within[built[n].Outer] = n
		}
	}
	for n, ok := within[-1]; ok && !built[n].Longest; n, ok = within[n] {
		built[n].Longest = true
	}
}

// maxEndLines bounds the lines that are read of a root's end, where its first ones are not all.
const maxEndLines = 50_000

// afterLines is how far behind a scope's close its story goes on: for disposals and uses that came after it.
const afterLines = 256

type makeOf struct {
	inst       uint64
	made, ns   int64
	seq        int
	disposable bool
	stays      bool // its home is this scope
	with       []uint64
	to         uint64 // who received it first
	entry      string
}

type useKey struct{ inst, by uint64 }

type teller struct {
	story   *Story
	opened  int64
	id      event.ScopeID
	root    bool
	res     *resolver
	made    []makeOf
	here    map[uint64]int // into made
	uses    map[useKey]int // into story.Used
	outside map[uint64]int // into story.Outside
	gone    map[uint64]int64
}

func (t *teller) line(e *event.Event) bool {
	if t.here == nil {
		t.here, t.uses, t.outside, t.gone = map[uint64]int{}, map[useKey]int{}, map[uint64]int{}, map[uint64]int64{}
	}
	at, mine := t.here[uint64(e.Inst)]
	if mine && e.Kind == event.Give {
		t.received(&t.made[at], uint64(e.To), e.Entry)
	}
	switch e.Kind {
	case event.Make:
		m := t.res.note(e)
		for _, w := range e.With {
			if at, mine := t.here[uint64(w.Inst)]; mine {
				t.received(&t.made[at], m.id, "")
			}
		}
		if e.Scope != t.id {
			return true
		}
		if len(t.made) == maxBuiltRows {
			t.story.Cut = fmt.Sprintf("only the first %d makes are shown", maxBuiltRows)
			return true
		}
		one := makeOf{inst: m.id, made: e.T, ns: e.NS, seq: len(t.made), disposable: e.Disposable}
		lifetime := ""
		if m.reg >= 0 {
			r := &t.res.stream.State().Registrations[m.reg]
			lifetime = r.Lifetime
			if !e.Has.Has(event.FDisposable) {
				one.disposable = r.Disposable
			}
		}
		one.stays = e.Owner == t.id && !e.OwnerNull
		if !e.Has.Has(event.FOwner) {
			one.stays = (t.root || rank(lifetime) < 3) && e.By != "direct"
		}
		for _, w := range e.With {
			if w.Inst != 0 && len(one.with) < maxShownWith {
				one.with = append(one.with, uint64(w.Inst))
			}
		}
		t.here[m.id] = len(t.made)
		t.made = append(t.made, one)
		for _, w := range e.With {
			if w.Inst != 0 {
				t.from(uint64(w.Inst), e.T-e.NS)
			}
		}
	case event.Give:
		if e.Scope == t.id && e.Has.Has(event.FScope) {
			t.from(uint64(e.Inst), e.T)
		}
	case event.Use:
		if e.Scope == t.id && e.Has.Has(event.FScope) {
			t.use(e)
		}
	case event.Dispose:
		if mine || e.Scope == t.id && e.Has.Has(event.FScope) {
			if e.State == "" || e.State == "handed" || e.State == "done" {
				t.gone[uint64(e.Inst)] = e.T
			}
			state := cmp.Or(e.State, "done")
			begun := slices.IndexFunc(t.story.Disposed, func(d DisposedRow) bool { return d.Instance == uint64(e.Inst) && d.State == "begun" })
			if begun >= 0 && state != "begun" {
				// What is done, or failed, takes the place of its beginning.
				d := &t.story.Disposed[begun]
				d.State, d.NS = state, cmp.Or(e.NS, e.T-t.opened-d.At)
			} else if len(t.story.Disposed) < maxStoryRows {
				t.story.Disposed = append(t.story.Disposed, DisposedRow{
					Thing: Thing{Instance: uint64(e.Inst)}, At: e.T - e.NS - t.opened, NS: e.NS, State: state, By: e.By,
				})
			}
		}
	case event.Open:
		if e.InScope == t.id && e.Has.Has(event.FIn) && len(t.story.Inner) < maxStoryRows {
			t.story.Inner = append(t.story.Inner, uint64(e.Scope))
		}
	}
	return true
}

// received notes who received an instance, the first time.
func (*teller) received(m *makeOf, to uint64, entry string) {
	if m.to == 0 && m.entry == "" {
		m.to, m.entry = to, entry
	}
}

// things names some instances.
func (t *teller) things(list []uint64) ([]Thing, error) {
	out := []Thing{}
	for _, id := range list {
		ref, reg, err := t.res.ref(id)
		if err != nil {
			return out, err
		}
		out = append(out, Thing{Instance: id, Mark: finding.Mark(id), Reg: reg, Of: ref})
	}
	return out, nil
}

// The bounds of what a story lists.
const (
	maxBuiltRows = 20_000 // on all pages
	maxShownWith = 16     // of what one instance was built with, or keeps
)

// from notes that an instance was given or used here, which may have come from outside.
func (t *teller) from(inst uint64, at int64) {
	if _, mine := t.here[inst]; mine || len(t.story.Outside) == maxStoryRows {
		return
	}
	if _, ok := t.outside[inst]; !ok {
		t.outside[inst] = len(t.story.Outside)
		t.story.Outside = append(t.story.Outside, Outside{Thing: Thing{Instance: inst}, At: at - t.opened})
	}
}

func (t *teller) use(e *event.Event) {
	t.from(uint64(e.Inst), e.T)
	if n, ok := t.outside[uint64(e.Inst)]; ok {
		t.story.Outside[n].Uses += e.Count
	}
	k := useKey{uint64(e.Inst), uint64(e.User)}
	n, ok := t.uses[k]
	if !ok {
		if len(t.story.Used) == maxStoryRows {
			return
		}
		n = len(t.story.Used)
		t.uses[k] = n
		row := UseRow{Thing: Thing{Instance: k.inst}, First: e.T - t.opened}
		if k.by != 0 {
			row.By = &Thing{Instance: k.by}
		}
		t.story.Used = append(t.story.Used, row)
	}
	row := &t.story.Used[n]
	row.Count += e.Count
	row.Last = e.T - t.opened
	row.TookNS += e.NS
	if end, ok := t.gone[k.inst]; ok && e.T > end {
		row.After = true
	}
}

// finish names everything and nests what was built.
func (t *teller) finish() error {
	name := func(x *Thing) error {
		ref, reg, err := t.res.ref(x.Instance)
		x.Of, x.Reg, x.Mark = ref, reg, finding.Mark(x.Instance)
		return err
	}
	// What was noted as outside before its make's line came is not.
	t.story.Outside = slices.DeleteFunc(t.story.Outside, func(o Outside) bool { _, mine := t.here[o.Instance]; return mine })
	for n := range t.story.Outside {
		one := &t.story.Outside[n]
		if err := name(&one.Thing); err != nil {
			return err
		}
		m, _, err := t.res.read(one.Instance)
		if err != nil {
			return err
		}
		var with []uint64
		for _, w := range m.with {
			if w.Inst != 0 && len(with) < maxShownWith {
				with = append(with, uint64(w.Inst))
			}
		}
		if one.With, err = t.things(with); err != nil {
			return err
		}
	}
	for n := range t.story.Used {
		if err := name(&t.story.Used[n].Thing); err != nil {
			return err
		}
		if by := t.story.Used[n].By; by != nil {
			if err := name(by); err != nil {
				return err
			}
		}
	}
	for n := range t.story.Disposed {
		if err := name(&t.story.Disposed[n].Thing); err != nil {
			return err
		}
	}
	var nesting nest.Nesting
	for _, m := range t.made {
		nesting.Add(m.made, m.ns, int64(m.seq))
	}
	for _, span := range nesting.Spans() {
		m := &t.made[span.N]
		b := Built{
			Thing: Thing{Instance: m.inst}, From: span.Start() - t.opened, TookNS: span.NS, OwnNS: span.Own, Outer: span.Outer, Depth: span.Depth,
		}
		if err := name(&b.Thing); err != nil {
			return err
		}
		with, err := t.things(m.with)
		if err != nil {
			return err
		}
		b.With, b.Entry = with, m.entry
		if m.to != 0 {
			b.For = &Thing{Instance: m.to}
			if err := name(b.For); err != nil {
				return err
			}
		}
		t.story.Built = append(t.story.Built, b)
		if _, gone := t.gone[m.inst]; m.disposable && m.stays && !gone && !t.story.Scope.Open {
			t.story.Left = append(t.story.Left, b.Thing)
		}
	}
	return nil
}
