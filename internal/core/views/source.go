package views

import (
	"cmp"
	"slices"
	"sort"
	"strings"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// Source is a recording as views ask it: what was derived of each stream, and the few stored pieces they need.
type Source struct {
	Recording string
	Streams   []StreamSource
	Result    *engine.Result // of all streams together
	Stale     int            // streams that another version, or other settings, derived, and that are being reanalysed
	Merged    *derive.State  // the states of all streams; nil: State merges them
}

// StreamSource is one stream of a Source.
type StreamSource struct {
	Head   *derive.State                  // the parts that lists of scopes need (derive.State.Head); where Load is nil, all of it
	Load   func() (*derive.State, error)  // reads all of it
	Result func() (*engine.Result, error) // of this stream alone; nil where that is not known
	Log    Log
	Lines  Lines
	loaded *derive.State
	err    error
}

// State returns all that is known of the stream. It is read when it is first asked for; where that fails, it is the Head, and the
// source's Err reports why.
func (s *StreamSource) State() *derive.State {
	if s.loaded == nil {
		s.loaded = s.Head
		if s.Load != nil {
			if state, err := s.Load(); err != nil {
				s.err = err
			} else {
				s.loaded = state
			}
		}
	}
	return s.loaded
}

// Err returns why a part of an answer is missing, nil where none is.
func (s *Source) Err() error {
	for n := range s.Streams {
		if err := s.Streams[n].err; err != nil {
			return err
		}
	}
	return nil
}

// Log is where the log of a stream's scopes is kept.
type Log interface {
	// Chunk returns the rows of a chunk of State.Chunks.
	Chunk(n int) ([]derive.Scope, error)
	// Pending returns the scopes that are in no chunk yet, the one that closed first before the others, then the open ones.
	Pending() ([]derive.Scope, error)
}

// Lines is where a stream's lines are kept.
type Lines interface {
	// Between calls f for each event on the lines from one to another, both included, until f returns false. The event
	// is overwritten by the next.
	Between(from, to int64, f func(*event.Event) bool) error
}

// State returns the states of all streams, merged.
func (s *Source) State() *derive.State {
	if s.Merged == nil {
		states := make([]*derive.State, 0, len(s.Streams))
		for n := range s.Streams {
			states = append(states, s.Streams[n].State())
		}
		s.Merged = derive.Merge(states)
	}
	return s.Merged
}

// Filter narrows a view. The zero value lets everything through.
type Filter struct {
	Service  string // a part of the service's name, or of its key, or of the implementation's
	Lifetime string
	Module   string // "-" is none
	Name     string // a part of a scope's name
	When     string // WhenAtStart or WhenOnDemand: when the first instance was made; "": either, or never
	How      string // how a need of the registration is filled: "constructor", "property" …; or a part of the chosen constructor
	Limit    int    // rows; 0: all
	Offset   int
}

// lets reports whether a registration passes.
func (f *Filter) lets(r *derive.Registration) bool {
	return f.names(r.Service, keyOf(r.Key), r.Impl) && (f.Lifetime == "" || r.Lifetime == f.Lifetime) &&
		(f.Module == "" || r.Module == f.Module || f.Module == "-" && r.Module == "") && f.made(r) && f.fills(r)
}

// The words for when an instance was made: before the first scope other than a root was opened, or later.
const (
	WhenAtStart  = "at start"
	WhenOnDemand = "on demand"
)

// when returns the word for a creation, "" for none.
func when(c *derive.Creation) string {
	switch {
	case c == nil:
		return ""
	case c.AtStart:
		return WhenAtStart
	}
	return WhenOnDemand
}

// made reports whether the registration's first instance was made in the filter's time.
func (f *Filter) made(r *derive.Registration) bool { return f.When == "" || when(r.First) == f.When }

// fills reports whether a need of the registration is filled, or its constructor was chosen, as the filter asks.
func (f *Filter) fills(r *derive.Registration) bool {
	return f.How == "" || slices.ContainsFunc(r.Needs, func(n derive.Need) bool { return n.How == f.How }) || r.Signature != "" && holds(r.Signature, f.How)
}

// names reports whether one of the names has the filter's service in it.
func (f *Filter) names(list ...string) bool {
	return f.Service == "" || slices.ContainsFunc(list, func(s string) bool { return holds(s, f.Service) })
}

func holds(s, part string) bool { return strings.Contains(strings.ToLower(s), strings.ToLower(part)) }

// page cuts a list to what was asked for.
func page[T any](list []T, f *Filter) []T {
	return paged(list, f.Limit, f.Offset)
}

func keyOf(key *string) string {
	if key == nil {
		return ""
	}
	return *key
}

// refAt names the registration at an index, nil for none.
func refAt(s *derive.State, n int) *finding.Ref {
	if n < 0 || n >= len(s.Registrations) {
		return nil
	}
	r := s.Registrations[n].Ref()
	return &r
}

// Asker is who asked for something, how, and how often.
type Asker struct {
	Consumer *finding.Ref `json:"consumer"` // nil where an entry point or an unknown caller asked
	Entry    string       `json:"entry,omitempty"`
	How      string       `json:"how"`
	Site     string       `json:"site,omitempty"`
	All      bool         `json:"all"` // for all of a service: a list
	Count    int64        `json:"count"`
}

// NotSeen stands for a receiver that the recorder did not see.
const NotSeen = "not seen"

// Who names the asker in a word or two.
func (a *Asker) Who() string {
	switch {
	case a.Consumer != nil:
		return a.Consumer.Name()
	case a.Entry != "":
		return a.Entry
	}
	return NotSeen
}

func askerOf(s *derive.State, h *derive.Handout) Asker {
	a := Asker{Consumer: refAt(s, h.Consumer), Entry: h.Entry, How: h.How, Site: h.Site, All: h.All, Count: h.Count}
	if a.Consumer == nil && h.Direct != "" {
		a.Consumer = &finding.Ref{Service: h.Direct, Implementation: finding.Text(h.Direct)}
	}
	return a
}

// MaxAskers bounds how many askers one row of a view lists: those that asked most often.
const MaxAskers = 50

// askers are those that asked for one thing, each once.
type askers struct {
	at   map[askerID]int
	list []Asker
}

type askerID struct {
	who, how, site string
	all            bool
}

// add adds an asker, or its count to that of the one that is the same.
func (a *askers) add(one Asker) {
	id := askerID{one.Who(), one.How, one.Site, one.All}
	if n, ok := a.at[id]; ok {
		a.list[n].Count += one.Count
		return
	}
	if a.at == nil {
		a.at = map[askerID]int{}
	}
	a.at[id] = len(a.list)
	a.list = append(a.list, one)
}

// busiest returns the first MaxAskers, those that asked most often before the others.
func (a *askers) busiest() []Asker {
	list := append([]Asker{}, a.list...)
	slices.SortStableFunc(list, func(a, b Asker) int { return cmp.Compare(b.Count, a.Count) })
	return list[:min(len(list), MaxAskers)]
}

// structure is how the registrations of a state lie around one another, looked up once for a whole view.
type structure struct {
	s      *derive.State
	outer  [][]int         // by registration: its layers, those that wrap it, in the order of registration
	named  map[asked][]int // the registrations of a service and key
	rivals map[rivalID]int // how many registrations are of a service, key and container
}

type rivalID struct {
	asked
	container string
}

func structureOf(s *derive.State) *structure {
	t := &structure{s: s, outer: make([][]int, len(s.Registrations)), named: map[asked][]int{}, rivals: map[rivalID]int{}}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if r.Wraps >= 0 && r.Wraps < len(t.outer) {
			t.outer[r.Wraps] = append(t.outer[r.Wraps], n)
		}
		id := rivalOf(r)
		t.named[id.asked] = append(t.named[id.asked], n)
		if !r.Local {
			t.rivals[id]++
		}
	}
	return t
}

func rivalOf(r *derive.Registration) rivalID {
	return rivalID{asked{r.Service, keyOf(r.Key), r.Key != nil}, r.Container}
}

// rank orders lifetimes by how long they last, 0 for one that is not known.
func rank(lifetime string) int {
	switch lifetime {
	case "singleton", "per-consumer", "external":
		return 3
	case "scoped":
		return 2
	case "transient":
		return 1
	}
	return 0
}

// made is where an instance comes from.
type made struct {
	id   uint64
	reg  int
	impl string
	t    int64
	at   string
	with []event.With // what it was built with, the first maxWith
}

// maxWith bounds what a resolver retains of each make's list.
const maxWith = 64

// resolver finds out what instances are, from what is alive and, for what has gone, from the lines on which they were
// made.
type resolver struct {
	stream *StreamSource
	regs   map[uint64]int
	known  map[uint64]made
	looked map[int]bool
	same   map[string]int // registrations by their names
}

func newResolver(s *StreamSource) *resolver {
	r := &resolver{stream: s, regs: map[uint64]int{}, known: map[uint64]made{}, looked: map[int]bool{}}
	for n := range s.State().Registrations {
		r.regs[s.State().Registrations[n].ID] = n
	}
	return r
}

func (r *resolver) reg(id event.RegID) int {
	if n, ok := r.regs[uint64(id)]; ok {
		return n
	}
	return derive.None
}

// note remembers the make of an instance.
func (r *resolver) note(e *event.Event) made {
	m := made{id: uint64(e.Inst), reg: derive.None, impl: e.Impl, t: e.T, at: e.At}
	if e.Has.Has(event.FReg) {
		m.reg = r.reg(e.Reg)
	}
	m.with = slices.Clone(e.With[:min(len(e.With), maxWith)])
	r.known[m.id] = m
	return m
}

// maxPlaces bounds how many places are read to find one answer's instances.
const maxPlaces = 32

// find returns where an instance comes from, false where that cannot be known any more.
func (r *resolver) find(id uint64) (made, bool, error) {
	if m, ok := r.known[id]; ok {
		return m, true, nil
	}
	alive := r.stream.State().Alive
	if n, ok := slices.BinarySearchFunc(alive, id, func(i derive.Instance, id uint64) int { return cmp.Compare(i.ID, id) }); ok {
		return made{id: id, reg: alive[n].Reg, impl: alive[n].Impl, t: alive[n].Made}, true, nil
	}
	return r.read(id)
}

// read returns where an instance comes from, by the line that made it; false where that is not found.
func (r *resolver) read(id uint64) (made, bool, error) {
	if m, ok := r.known[id]; ok {
		return m, true, nil
	}
	places := r.stream.State().Places
	n := sort.Search(len(places), func(n int) bool { return places[n].ID > id }) - 1
	if n < 0 || r.looked[n] || len(r.looked) == maxPlaces {
		return made{}, false, nil
	}
	r.looked[n] = true
	// A line may come a little after those that follow it in time.
	from, to := places[n].Line, places[n].Line+maxStoryLines
	if n+1 < len(places) {
		to = places[n+1].Line + 64
	}
	err := r.stream.Lines.Between(max(1, from-64), to, func(e *event.Event) bool {
		if e.Kind == event.Make {
			r.note(e)
		}
		return true
	})
	if err != nil {
		return made{}, false, err
	}
	m, ok := r.known[id]
	return m, ok, nil
}

// called returns a name that distinguishes an instance from those of other registrations: with its implementation where several
// registrations have one service and key, as the layers of a service do.
func (r *resolver) called(ref finding.Ref) string {
	if r.same == nil {
		r.same = map[string]int{}
		for n := range r.stream.State().Registrations {
			r.same[r.stream.State().Registrations[n].Ref().Name()]++
		}
	}
	name := ref.Name()
	if impl := ref.Impl(); impl != "" && impl != ref.Service && r.same[name] > 1 {
		name += " (" + impl + ")"
	}
	return name
}

// ref names what an instance is of.
func (r *resolver) ref(id uint64) (finding.Ref, int, error) {
	m, ok, err := r.find(id)
	if err != nil {
		return finding.Ref{}, derive.None, err
	}
	if !ok {
		return finding.Ref{Service: "made earlier"}, derive.None, nil
	}
	if ref := refAt(r.stream.State(), m.reg); ref != nil {
		if m.impl != "" {
			ref.Implementation = finding.Text(m.impl)
		}
		return *ref, m.reg, nil
	}
	name := cmp.Or(m.impl, "an unregistered instance")
	return finding.Ref{Service: name, Implementation: finding.Text(m.impl), At: finding.Text(m.at)}, derive.None, nil
}

// clockAt returns a time as findings write it.
func clockAt(s *derive.State, ns int64) string {
	start, _ := time.Parse(time.RFC3339, s.Start) // the reader has checked it
	return finding.Time(start.Add(time.Duration(ns)))
}
