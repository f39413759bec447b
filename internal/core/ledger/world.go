package ledger

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/nest"
	"keenlantern.example/record/event"
)

// Remembered is how many ended instances that nothing alive keeps are still known, and half as many closed scopes, unless
// a World is set to retain fewer: the same window as the format gives lines out of order.
const Remembered = 65_536

// Hello is the content of a hello.
type Hello struct {
	App, Stream, Version, Language, Host, Environment, Recorder string
	PID                                                         int64
	Labels                                                      map[string]string
	StartText                                                   string
	Start                                                       time.Time
}

// Happening is the kind of a Change.
type Happening uint8

// What can happen. Bound comes whenever a keeping becomes known: with the make of the holder or of the kept one,
// whichever is later, with a property, or with the use that shows it.
const (
	Registered Happening = iota
	Opened
	Made
	Bound
	Given
	Used
	DisposeSeen
	ForgottenSeen
	ScopeClosing   // a scope is about to close: its instances are still as they were
	ScopeClosed    // it has closed: Homed is what was at home in it, and has ended
	Settled        // an instance's registration came after it was made
	InstanceEnded  // disposed, forgotten, or its home closed
	ScopeForgotten // a closed scope is kept no longer
	HomeKnown      // an instance came into a home that had closed: late lines, or a scope used after its end
	Failed
	Lost
	StreamEnded // bye
	happenings
)

// Happenings is how many kinds there are.
const Happenings = int(happenings)

// Change is one thing that has happened. It is valid during the call.
type Change struct {
	What   Happening
	Event  *event.Event
	Inst   *Instance     // the instance it is about; the kept one for Bound
	Holder *Instance     // Bound: who keeps; Used: who used it, if known; Given: who received it
	Edge   *Edge         // Bound, reported for the first time
	Homed  bool          // Bound, reported again: one of the two came into its home with its registration
	Scope  *Scope        // where it happened, or what closed
	Reg    *Registration // Registered
}

// World is the picture. It is not safe for use by several goroutines.
type World struct {
	Stream Hello
	Sees   Sight
	Seq    int64 // events applied
	T      int64 // the latest time seen, ns
	Line   int64 // the latest line
	Ended  bool  // bye
	EndWhy string
	Over   bool // it ended with its process, and not because recording stopped: what was alive then is known to be left
	Lost   int64

	// Remember is Remembered or less; it may be changed at any time.
	Remember int

	Containers []*Container

	ScopesOpened  int64 // roots apart
	ScopeWeight   int64
	InstancesMade int64
	Flattened     int64 // scopes that were nested deeper than MaxDepth
	Abandoned     int64 // searches for who keeps an instance that were too long to be ended
	Changed       int64 // Seq of the latest event that may have changed who keeps whom, or which scope belongs to which
	Began         int64 // ns: when the first scope other than a root was opened; what was made before was made at start
	SetUp         int64 // how often a registration or container has changed

	meter     *meter.Meter `freeze:"-"`
	names     names
	regList   []*Registration // in no order while unsorted
	unsorted  bool
	regBytes  int // of texts that registrations hold
	first     *Container
	regs      table[Registration]
	services  map[string]int32
	conts     map[event.ContainerID]*Container
	scopes    table[Scope]
	insts     table[Instance]
	awaited   map[event.InstID][]awaiting // keepings of an instance to come
	awaiting  int                         // how many
	readLate  map[event.InstID][]read     // constructions that only read one to come
	contained contained                   `freeze:"-"`
	living    []*Instance                 `freeze:"-"` // as of livingSeq, for several callers
	livingSeq int64                       `freeze:"-"`
	deadInsts ended
	judged    []*Instance `freeze:"-"` // room for forgetInstances
	walks     uint64      `freeze:"-"` // numbers given out
	deadScope scopeList
	pinned    int           // ended, and kept by something alive
	spare     []*Instance   `freeze:"-"` // forgotten, to be used again
	rooms     [][]*Instance `freeze:"-"` // of scopes that have ended
	lettings  []*Letting    `freeze:"-"` // of forgotten instances

	nesting nest.Nesting `freeze:"-"` // the latest scope's constructions, for several callers
	spansOf *Scope       `freeze:"-"`
	spans   []Span       `freeze:"-"`
	timed   []*Instance  `freeze:"-"`

	listen func(*Change)
	change Change `freeze:"-"`
}

// New returns the world of one stream, which is given its hello first. Every Change goes to listen. Walks whose length the
// trace decides are counted by m.
func New(m *meter.Meter, listen func(*Change)) *World {
	w := &World{
		meter: m,
		names: names{known: map[string]string{}, namings: map[naming]Naming{}},
		Sees:  SeesAll,
		conts: map[event.ContainerID]*Container{}, services: map[string]int32{},
		awaited: map[event.InstID][]awaiting{}, readLate: map[event.InstID][]read{},
		listen: listen,

		Remember: Remembered, Began: math.MaxInt64,
	}
	root := &Scope{ID: 0, Known: true, Root: true, Weight: 1, Name: "root", Kind: "root"}
	w.scopes.put(0, root)
	// A stream that names no container has one all the same.
	w.first = newContainer(root)
	return w
}

// Instance returns an instance that is alive or remembered, nil otherwise.
func (w *World) Instance(id event.InstID) *Instance { return w.insts.get(uint64(id)) }

// Living calls f for every instance that has not ended, in the order of their ids.
func (w *World) Living(f func(*Instance)) {
	if w.livingSeq != w.Seq || w.living == nil {
		w.living = w.living[:0]
		w.insts.each(func(i *Instance) {
			if !i.Ended {
				w.living = append(w.living, i)
			}
		})
		slices.SortFunc(w.living, func(a, b *Instance) int { return cmp.Compare(a.ID, b.ID) })
		w.livingSeq = w.Seq
	}
	for _, i := range w.living {
		f(i)
	}
}

// Scope returns a scope that is open or remembered, nil otherwise.
func (w *World) Scope(id event.ScopeID) *Scope { return w.scopes.get(uint64(id)) }

// First returns the container that a registration belongs to unless it names another.
func (w *World) First() *Container { return w.first }

// Alive returns how many instances are known and have not ended.
func (w *World) Alive() int { return w.insts.n - w.deadInsts.n - w.pinned }

// NewWalk returns a number for a walk through instances, by which each knows whether it has been met. One walk goes on at a
// time.
func (w *World) NewWalk() uint64 {
	w.walks++
	return w.walks
}

// Step counts n steps of a walk whose length the trace decides. It panics with a *meter.Stopped when there have been too
// many.
func (w *World) Step(n int) { w.meter.Step(n) }

// NamesOver returns how often a name was met that there was no room for.
func (w *World) NamesOver() int64 { return w.names.over }

// Apply takes the next event, whose texts it may replace. An error is the reason why the event could not be used: it is a
// duplicate, or about something that ended so long ago that it is no longer remembered.
//
// Nothing is forgotten while an event is being applied: lists that a change shows stay as they are until all have seen
// it. What is over the bounds goes when the event has been dealt with.
func (w *World) Apply(ev *event.Event) error {
	w.Seq++
	w.T = max(w.T, ev.T)
	w.Line = max(w.Line, ev.Line)
	if ev.Kind != event.Use && (ev.Kind != event.Give || ev.To != 0) {
		w.Changed = w.Seq
	}
	w.names.bound(ev)
	err := w.apply(ev)
	w.letGo()
	return err
}

func (w *World) apply(ev *event.Event) error {
	switch ev.Kind {
	case event.Hello:
		return w.hello(ev)
	case event.Container:
		return w.container(ev)
	case event.Register:
		return w.register(ev)
	case event.Open:
		return w.open(ev)
	case event.Join:
		return w.join(ev)
	case event.Make:
		return w.make(ev)
	case event.Give:
		return w.give(ev)
	case event.Use:
		return w.use(ev)
	case event.Dispose:
		return w.dispose(ev)
	case event.Forget:
		return w.forget(ev)
	case event.Close:
		return w.close(ev)
	case event.Fail:
		w.tell(Change{What: Failed, Event: ev, Scope: w.scopeOf(ev), Inst: w.insts.get(uint64(ev.To))})
	case event.Gap:
		w.Lost += ev.Lost
		w.tell(Change{What: Lost, Event: ev})
	case event.Bye:
		if w.Ended {
			return fmt.Errorf("bye a second time")
		}
		w.Ended, w.EndWhy, w.Over = true, ev.Why, !event.Stopped(ev.Why)
		w.tell(Change{What: StreamEnded, Event: ev})
	}
	return nil
}

func (w *World) tell(c Change) {
	w.change = c
	w.listen(&w.change)
}

// Roots calls f for the root of each container, the outermost first.
func (w *World) Roots(f func(*Scope)) {
	roots := []*Scope{w.scopes.get(0)}
	w.Step(len(w.Containers))
	for _, c := range w.Containers {
		if !slices.Contains(roots, c.Root) && len(roots) < maxShownRoots {
			roots = append(roots, c.Root)
		}
	}
	for _, s := range roots {
		f(s)
	}
}

// maxShownRoots bounds how many roots are listed.
const maxShownRoots = 100

func (w *World) hello(ev *event.Event) error {
	if !w.Stream.Start.IsZero() {
		return fmt.Errorf("hello a second time: the stream %q has begun", w.Stream.Stream)
	}
	start, err := time.Parse(time.RFC3339, ev.Start)
	if err != nil {
		return fmt.Errorf("start of the stream: %w", err)
	}
	w.Stream = Hello{
		App: ev.App, Stream: ev.Stream, Version: ev.Version, Language: ev.Language, Host: ev.Host,
		Environment: ev.Environment, Recorder: ev.Recorder, PID: ev.PID, Labels: ev.Labels, StartText: ev.Start, Start: start,
	}
	w.Sees = sightOf(ev.Sees, ev.Has.Has(event.FSees))
	return nil
}
