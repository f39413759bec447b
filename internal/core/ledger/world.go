package ledger

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"keenlantern.example/record/event"
)

// Remembered is how many ended instances that nothing alive keeps are still known, and half as many closed scopes: the
// same window as the format gives lines out of order.
const Remembered = 65_536

// Stream is what a hello said.
type Stream struct {
	App, Stream, Version, Language, Host, Environment, Recorder string
	PID                                                         int64
	Labels                                                      map[string]string
	StartText                                                   string
	Start                                                       time.Time
}

// Happening is what kind of thing a Change tells.
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
	ScopeClosing // a scope is about to close: its instances are still as they were
	ScopeClosed  // it has closed: Homed is what was at home in it, and has ended
	Settled      // an instance's registration came after it was made
	HomeKnown    // an instance came into a home that had closed: late lines, or a scope used after its end
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
	Edge   *Edge         // Bound, where it is told of for the first time
	Scope  *Scope        // where it happened, or what closed
	Reg    *Registration // Registered
}

// World is the picture. It is not safe for use by several goroutines.
type World struct {
	Stream Stream
	Sees   Sight
	Seq    int64 // events applied
	T      int64 // the latest time seen, ns
	Ended  bool  // bye
	EndWhy string
	Lost   int64

	Containers []*Container
	Regs       []*Registration // in the order in which they were first registered

	ScopesOpened  int64 // roots apart
	ScopeWeight   int64
	InstancesMade int64

	first     *Container
	wiring    *Wiring // nil when it has to be made anew
	regs      map[event.RegID]*Registration
	conts     map[event.ContainerID]*Container
	scopes    table[Scope]
	insts     table[Instance]
	awaited   map[event.InstID][]*Instance // makes that mention an instance to come
	living    []*Instance                  // as of livingSeq, for several who ask at once
	livingSeq int64
	deadInsts instList
	deadScope scopeList
	pinned    int // ended, and kept by something alive

	listen func(*Change)
	change Change
}

// New returns the world of one stream, whose hello it is told first. Every Change goes to listen.
func New(listen func(*Change)) *World {
	w := &World{
		Sees:    SeesAll,
		regs:    map[event.RegID]*Registration{},
		conts:   map[event.ContainerID]*Container{},
		awaited: map[event.InstID][]*Instance{},
		listen:  listen,
	}
	root := &Scope{ID: 0, Known: true, Root: true, Weight: 1, Name: "root", Kind: "root"}
	w.scopes.put(0, root)
	// A stream that names no container has one all the same.
	w.first = &Container{Root: root, Duplicates: "last", Cycles: "refused"}
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

// Open calls f for every scope that is remembered and whose own close line has not come, roots apart.
func (w *World) Open(f func(*Scope)) {
	list := []*Scope{}
	w.scopes.each(func(s *Scope) {
		if s.opened && !s.Closed && !s.Root {
			list = append(list, s)
		}
	})
	slices.SortFunc(list, func(a, b *Scope) int { return cmp.Compare(a.ID, b.ID) })
	for _, s := range list {
		f(s)
	}
}

// Scope returns a scope that is open or remembered, nil otherwise.
func (w *World) Scope(id event.ScopeID) *Scope { return w.scopes.get(uint64(id)) }

// First returns the container that a registration belongs to unless it says otherwise.
func (w *World) First() *Container { return w.first }

// Alive returns how many instances are known and have not ended.
func (w *World) Alive() int { return w.insts.n - w.deadInsts.n - w.pinned }

// Apply takes the next event. An error says why the event could not be used: it is a duplicate, or about something
// that ended so long ago that it is no longer remembered.
func (w *World) Apply(ev *event.Event) error {
	w.Seq++
	w.T = max(w.T, ev.T)
	switch ev.Kind {
	case event.Hello:
		return w.hello(ev)
	case event.Container:
		return w.container(ev)
	case event.Register:
		w.register(ev)
	case event.Open:
		return w.open(ev)
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
		w.Ended, w.EndWhy = true, ev.Why
		w.tell(Change{What: StreamEnded, Event: ev})
	}
	return nil
}

func (w *World) tell(c Change) {
	w.change = c
	w.listen(&w.change)
}

func (w *World) hello(ev *event.Event) error {
	if !w.Stream.Start.IsZero() {
		return fmt.Errorf("hello a second time: the stream %q has begun", w.Stream.Stream)
	}
	start, err := time.Parse(time.RFC3339, ev.Start)
	if err != nil {
		return fmt.Errorf("start of the stream: %w", err)
	}
	w.Stream = Stream{
		App: ev.App, Stream: ev.Stream, Version: ev.Version, Language: ev.Language, Host: ev.Host,
		Environment: ev.Environment, Recorder: ev.Recorder, PID: ev.PID, Labels: ev.Labels, StartText: ev.Start, Start: start,
	}
	w.Sees = sightOf(ev.Sees, ev.Has.Has(event.FSees))
	return nil
}

func (w *World) container(ev *event.Event) error {
	w.wiring = nil
	c := w.conts[ev.Container]
	fresh := c == nil
	switch {
	case !fresh:
	case len(w.Containers) == 0:
		c = w.first
	default:
		c = &Container{Duplicates: "last", Cycles: "refused"}
	}
	if fresh {
		c.ID = ev.Container
		w.conts[ev.Container] = c
		w.Containers = append(w.Containers, c)
	}
	if ev.Has.Has(event.FIn) {
		c.Parent = w.conts[ev.InCont]
	}
	if root := w.rootFor(ev, c); root != nil {
		c.Root = root
	}
	c.Name, c.At = ev.Name, ev.At
	if ev.Duplicates != "" {
		c.Duplicates = ev.Duplicates
	}
	if ev.Cycles != "" {
		c.Cycles = ev.Cycles
	}
	return nil
}

// rootFor returns the root scope that a container line says or implies.
func (w *World) rootFor(ev *event.Event, c *Container) *Scope {
	if !ev.Has.Has(event.FScope) {
		if c.Parent != nil {
			return c.Parent.Root
		}
		if c.Root != nil {
			return c.Root
		}
		return w.scopes.get(0)
	}
	s := w.scopes.get(uint64(ev.Scope))
	if s == nil {
		s = &Scope{ID: ev.Scope, Weight: 1}
		w.scopes.put(uint64(ev.Scope), s)
	}
	if !s.Known {
		s.Known, s.Opened, s.Line = true, ev.T, ev.Line
		s.Kind, s.Name, s.Parent = "root", ev.Name, nil
		if c.Parent != nil {
			w.nest(s, c.Parent.Root)
		}
	}
	s.Root = true
	return s
}

// registration returns the one with this id, to be known later if need be.
func (w *World) registration(id event.RegID) *Registration {
	r := w.regs[id]
	if r == nil {
		r = &Registration{ID: id, Container: w.first, First: math.MaxInt64, Sees: w.Sees}
		w.regs[id] = r
		w.Regs = append(w.Regs, r)
	}
	return r
}

func (w *World) register(ev *event.Event) {
	w.wiring = nil
	r := w.registration(ev.Reg)
	has := func(f event.Field) bool { return ev.Has.Has(f) }
	first, made, early, tags := r.First, r.Made, r.early, r.tags
	if !r.Known {
		first = ev.T
	}
	*r = Registration{
		ID: ev.Reg, Known: true, First: first, Made: made, tags: tags, T: ev.T, Line: ev.Line, Container: w.first,
		Service: ev.Service, Impl: ev.Impl, Lifetime: Lifetime(ev.Lifetime), Declared: Lifetime(ev.Declared),
		Key: ev.Key, HasKey: has(event.FKey), Primary: ev.Primary, Local: ev.Local, Internal: ev.Internal,
		Disposable: ev.Disposable, Disposer: ev.Disposer, Shareable: ev.Shareable, SharingKnown: has(event.FShareable),
		At: ev.At, Module: ev.Module, Sees: w.Sees,
	}
	if len(ev.Also) > 0 {
		r.Also = append([]event.Also(nil), ev.Also...)
	}
	if len(ev.Needs) > 0 {
		r.Needs = append([]event.Need(nil), ev.Needs...)
	}
	if has(event.FContainer) {
		if c := w.conts[ev.Container]; c != nil {
			r.Container = c
		}
	}
	if has(event.FWraps) {
		r.Wraps = w.registration(ev.Wraps)
	}
	if has(event.FAlias) {
		r.Alias = w.registration(ev.Alias)
	}
	if has(event.FProxy) {
		r.Proxy = w.registration(ev.Proxy)
	}
	if has(event.FSees) {
		r.Sees = sightOf(ev.Sees, true)
	}
	w.order(r)
	w.tell(Change{What: Registered, Event: ev, Reg: r})
	for _, i := range early {
		w.settle(i)
	}
}

// order puts r where its time belongs: a line that came late, or was mentioned before, changes nothing.
func (w *World) order(r *Registration) {
	n := len(w.Regs) - 1
	for n >= 0 && w.Regs[n] != r {
		n--
	}
	for ; n > 0 && w.Regs[n].First < w.Regs[n-1].First; n-- {
		w.Regs[n], w.Regs[n-1] = w.Regs[n-1], w.Regs[n]
	}
	for ; n+1 < len(w.Regs) && w.Regs[n].First > w.Regs[n+1].First; n++ {
		w.Regs[n], w.Regs[n+1] = w.Regs[n+1], w.Regs[n]
	}
}

// scopeFor returns the scope with this id, to be opened later if need be: a make does not wait for its open.
func (w *World) scopeFor(id event.ScopeID) *Scope {
	s := w.scopes.get(uint64(id))
	if s == nil {
		s = &Scope{ID: id, Weight: 1, Parent: w.scopes.get(0)}
		w.scopes.put(uint64(id), s)
	}
	return s
}

// scopeOf returns the scope that a line names, nil where it names none or one that is no longer remembered.
func (w *World) scopeOf(ev *event.Event) *Scope {
	if !ev.Has.Has(event.FScope) {
		return nil
	}
	return w.scopes.get(uint64(ev.Scope))
}

func (w *World) nest(s, parent *Scope) {
	if parent == nil || parent == s || parent.Inside(s) {
		return
	}
	s.Parent = parent
	s.list(parent)
}

// list puts s among those that end when the root around parent closes.
func (s *Scope) list(in *Scope) {
	s.unlist()
	s.listed, s.childIndex = in, len(in.children)
	in.children = append(in.children, s)
}

func (s *Scope) unlist() {
	in := s.listed
	if in == nil {
		return
	}
	last := len(in.children) - 1
	moved := in.children[last]
	in.children[s.childIndex] = moved
	moved.childIndex = s.childIndex
	in.children[last] = nil
	in.children = in.children[:last]
	s.listed = nil
}

func (w *World) open(ev *event.Event) error {
	s := w.scopeFor(ev.Scope)
	if s.opened || s.ID == 0 {
		return fmt.Errorf("scope %d was opened before, on line %d", ev.Scope, s.Line)
	}
	s.opened = true
	// A container's root needs no open and may have one, to say more.
	if !s.Root {
		w.nest(s, w.scopeFor(ev.InScope))
	}
	s.Known, s.Opened, s.Line = true, ev.T, ev.Line
	s.Kind, s.Name, s.Trace, s.Weight = ev.ScopeKind, ev.Name, ev.Trace, ev.Weight
	s.EndsUnknown = ev.Ends == "unknown"
	w.ScopesOpened++
	w.ScopeWeight += ev.Weight
	// New work begins around it: what was disposed there before was no closing.
	s.Parent.working()
	w.tell(Change{What: Opened, Event: ev, Scope: s})
	return nil
}

// working notes that no closing is going on in s or around it after all.
func (s *Scope) working() {
	for ; s != nil; s = s.Parent {
		s.closingSince = 0
	}
}

// mark notes that something was made, given or used in s.
func (w *World) mark(s *Scope, use bool) {
	for ; s != nil; s = s.Parent {
		if !use || s.closingSince == 0 {
			s.active = w.Seq
		}
	}
}

func (w *World) make(ev *event.Event) error {
	if old := w.insts.get(uint64(ev.Inst)); old != nil {
		return fmt.Errorf("instance %d was made before, on line %d", ev.Inst, old.MadeLine)
	}
	i := &Instance{
		ID: ev.Inst, Scope: w.scopeFor(ev.Scope), By: ev.By, Made: ev.T, MadeSeq: w.Seq, MadeLine: ev.Line, NS: ev.NS,
		Size: ev.Size, Module: ev.Module, impl: ev.Impl, at: ev.At, disposable: ev.Disposable,
		disposableSet: ev.Has.Has(event.FDisposable), disposer: ev.Disposer, homeIndex: -1, Container: w.first,
	}
	if i.By == "" {
		i.By = "container"
	}
	if ev.Has.Has(event.FReg) {
		i.Reg = w.registration(ev.Reg)
		i.Reg.Made++
		i.Container = i.Reg.Container
		if !i.Reg.Known && len(i.Reg.early) < Remembered {
			i.Reg.early = append(i.Reg.early, i)
		}
	}
	if ev.Has.Has(event.FContainer) {
		if c := w.conts[ev.Container]; c != nil {
			i.Container = c
		}
	}
	w.insts.put(uint64(i.ID), i)
	w.InstancesMade++
	if ev.Has.Has(event.FOwner) {
		i.ownerSet = true
		if i.ownerNull = ev.OwnerNull; !i.ownerNull {
			w.homeIn(i, w.scopeFor(ev.Owner))
		}
	} else {
		w.defaultHome(i)
	}
	w.keepAll(i, ev)
	if i.NS > 0 && !i.Scope.Root && len(i.Scope.Built) < maxBuilt {
		i.Scope.Built = append(i.Scope.Built, i)
	}
	w.mark(i.Scope, false)
	w.tell(Change{What: Made, Event: ev, Inst: i, Scope: i.Scope})
	w.endLate(i)
	for n := range i.Keeps {
		if i.Keeps[n].Kept != nil {
			w.bind(i, n, ev)
		}
	}
	w.arrive(i, ev)
	return nil
}

// maxBuilt bounds how many timed makes one scope remembers until it closes.
const maxBuilt = 10_000

// defaultHome gives an instance whose make names no owner the one its lifetime implies, as soon as that is known.
func (w *World) defaultHome(i *Instance) {
	switch {
	case i.By == "direct":
	case i.Reg != nil && !i.Reg.Known: // it gets one in settle
	case i.Lifetime().Long():
		w.homeIn(i, i.Container.Root)
	default:
		w.homeIn(i, i.Scope)
	}
}

// settle gives an instance that was made before its registration came the home it has by it.
func (w *World) settle(i *Instance) {
	i.Container = i.Reg.Container
	if !i.ownerSet {
		w.defaultHome(i)
	}
	w.tell(Change{What: Settled, Inst: i, Scope: i.Scope})
	if !i.ownerSet {
		w.endLate(i)
		if i.home != nil {
			w.passOn(i)
		}
	}
	for _, k := range i.KeptBy {
		w.tell(Change{What: Bound, Inst: i, Holder: k.Holder, Scope: i.Scope})
	}
	for n := range i.Keeps {
		if kept := i.Keeps[n].Kept; kept != nil {
			kept.HeldFor = kept.HeldFor || i.holdsForGood()
			w.tell(Change{What: Bound, Inst: kept, Holder: i, Scope: i.Scope})
		}
	}
}

// endLate ends an instance that came into a home which had closed: a line that came late, or a scope used after its end.
func (w *World) endLate(i *Instance) {
	if i.home == nil || !i.home.Ended {
		return
	}
	w.end(i, HomeClosed, max(i.Made, i.home.ClosedAt))
	w.tell(Change{What: HomeKnown, Inst: i, Scope: i.home})
	w.leaveHome(i)
}

func (w *World) homeIn(i *Instance, s *Scope) {
	i.home = s
	i.homeIndex = len(s.Homed)
	s.Homed = append(s.Homed, i)
}

func (w *World) leaveHome(i *Instance) {
	if i.homeIndex < 0 {
		return
	}
	list := i.home.Homed
	last := len(list) - 1
	list[i.homeIndex] = list[last]
	list[i.homeIndex].homeIndex = i.homeIndex
	list[last] = nil
	i.home.Homed = list[:last]
	i.homeIndex = -1
}

// keepAll notes what a make says it was given and keeps.
func (w *World) keepAll(i *Instance, ev *event.Event) {
	n := 0
	for k := range ev.With {
		if g := &ev.With[k]; g.Inst != 0 && !g.Passing && !g.Absent {
			n++
		}
	}
	if n == 0 {
		return
	}
	i.Keeps = make([]Edge, 0, n)
	for k := range ev.With {
		g := &ev.With[k]
		if g.Inst == 0 || g.Passing || g.Absent || (g.Via != 0 && w.registration(g.Via).Proxy != nil) {
			continue
		}
		site := g.Site
		if site == "" && i.Reg != nil {
			site = siteOf(i.Reg.Needs, g.Slot)
		}
		kept := w.insts.get(uint64(g.Inst))
		edge := Edge{Kept: kept, ID: g.Inst, Site: site, At: ev.T, Slot: g.Slot, All: g.All, back: -1}
		if said := g.Service != "" || g.HasKey; said || g.Via != 0 {
			edge.Request = &Request{Asked: Asked{g.Service, g.Key, g.HasKey}, Said: said}
			if g.Via != 0 {
				edge.Request.Via = w.registration(g.Via)
			}
		}
		i.Keeps = append(i.Keeps, edge)
		if kept == nil {
			w.await(g.Inst, i)
		}
	}
}

// siteOf returns the name of the n-th need that a constructor gets at once.
func siteOf(needs []event.Need, n int) string {
	for k := range needs {
		if needs[k].Lazy || (needs[k].How != "" && needs[k].How != "constructor") {
			continue
		}
		if n == 0 {
			return needs[k].Site
		}
		n--
	}
	return ""
}

// maxAwaited bounds how many instances to come are waited for.
const maxAwaited = Remembered

// await notes that holder keeps an instance whose make has not come yet.
func (w *World) await(id event.InstID, holder *Instance) {
	if len(w.awaited) < maxAwaited {
		w.awaited[id] = append(w.awaited[id], holder)
	}
}

// arrive ties the holders that mentioned i before it came.
func (w *World) arrive(i *Instance, ev *event.Event) {
	if len(w.awaited) == 0 {
		return
	}
	holders := w.awaited[i.ID]
	delete(w.awaited, i.ID)
	for _, h := range holders {
		for n := range h.Keeps {
			if h.Keeps[n].ID == i.ID && h.Keeps[n].Kept == nil {
				h.Keeps[n].Kept = i
				w.bind(h, n, ev)
			}
		}
	}
}

// maxContext bounds how many holders are remembered for an instance that lives as long as its container: they
// explain a finding and decide none, and there may be one in every request.
const maxContext = 16

// bind makes holder's n-th edge known from both sides and tells of it.
func (w *World) bind(holder *Instance, n int, ev *event.Event) {
	edge := &holder.Keeps[n]
	kept := edge.Kept
	if kept.ownerNull && kept.home == nil && holder.home != nil {
		w.inherit(kept, holder.home)
	}
	if kept.keepersMatter() || len(kept.KeptBy) < maxContext && (holder.home == nil || !kept.home.Outlasts(holder.home)) {
		edge.back = len(kept.KeptBy)
		kept.KeptBy = append(kept.KeptBy, Keeper{holder, n})
	}
	if holder.holdsForGood() {
		kept.HeldFor = true
	}
	w.tell(Change{What: Bound, Event: ev, Inst: kept, Holder: holder, Edge: edge, Scope: holder.Scope})
}

// holdsForGood tells whether i is known not to be a transient of the root.
func (i *Instance) holdsForGood() bool {
	if i.Reg != nil && !i.Reg.Known {
		return false
	}
	return i.Lifetime() != Transient || i.home == nil || i.home != i.Root()
}

// keepersMatter tells whether all holders of i have to be known: not where i is meant to outlast them.
func (i *Instance) keepersMatter() bool {
	return !(i.home != nil && i.home.Root && i.Lifetime().Long())
}

// inherit gives a home to an instance that lives as long as what keeps it.
func (w *World) inherit(i *Instance, home *Scope) {
	w.homeIn(i, home)
	w.endLate(i)
	w.passOn(i)
}

// passOn gives i's home to what it keeps and that lives as long as i does.
func (w *World) passOn(i *Instance) {
	for n := range i.Keeps {
		if k := i.Keeps[n].Kept; k != nil && k.ownerNull && k.home == nil {
			w.inherit(k, i.home)
		}
	}
}

func (w *World) give(ev *event.Event) error {
	i := w.insts.get(uint64(ev.Inst))
	if i == nil {
		return errGone(ev.Inst)
	}
	s := w.scopeOf(ev)
	var to *Instance
	if ev.Has.Has(event.FTo) {
		to = w.insts.get(uint64(ev.To))
	}
	w.mark(s, false)
	if ev.Entry != "" {
		s.working()
	}
	w.refresh(i)
	w.tell(Change{What: Given, Event: ev, Inst: i, Holder: to, Scope: s})
	// After the rules, which may have begun to follow it on account of this very line.
	if i.Watches != nil {
		name := ev.Entry
		if to != nil {
			name = to.Ref().Name()
		}
		i.touched("give", name, s, ev.T)
	}
	if to == nil {
		return nil
	}
	if ev.How == "property" {
		w.keep(to, i, handout{scope: s, at: ev.T, site: ev.Site}, ev)
		return nil
	}
	w.handOut(i, to, s, ev)
	return nil
}

// keep notes an edge that came after the holder's make.
func (w *World) keep(holder, kept *Instance, how handout, ev *event.Event) {
	for n := range holder.Keeps {
		if holder.Keeps[n].ID == kept.ID {
			return
		}
	}
	// A property that is set again holds one thing at a time; what it held before is let go of by nobody's word, so
	// the edge stays, but not without bound.
	edge := Edge{Kept: kept, ID: kept.ID, Site: how.site, At: how.at, Slot: -1, back: -1}
	n := len(holder.Keeps)
	if n < maxKept {
		holder.Keeps = append(holder.Keeps, edge)
	} else {
		n = holder.dropNext % maxKept
		holder.dropNext++
		w.unkeep(holder, n)
		holder.Keeps[n] = edge
	}
	w.bind(holder, n, ev)
}

// maxKept bounds what one instance keeps through properties and later uses; past it the oldest is let go of.
const maxKept = 4096

// maxHandouts bounds the receivers remembered for one instance.
const maxHandouts = 1024

// handOut remembers a hand-out that may turn out to be kept, where that could ever matter.
func (w *World) handOut(i, to *Instance, s *Scope, ev *event.Event) {
	if s == nil || i.home == nil || (i.home.Root && (to.home == nil || !to.home.Root)) {
		return
	}
	kept := i.handouts[:0]
	for _, h := range i.handouts {
		if h.to != to && !h.to.Ended {
			kept = append(kept, h)
		}
	}
	if len(kept) == maxHandouts {
		kept = kept[1:]
	}
	i.handouts = append(kept, handout{to, s, ev.T, ev.Site})
}

func (w *World) use(ev *event.Event) error {
	i := w.insts.get(uint64(ev.Inst))
	if i == nil {
		return errGone(ev.Inst)
	}
	s := w.scopeOf(ev)
	var user *Instance
	if ev.Has.Has(event.FBy) {
		user = w.insts.get(uint64(ev.User))
	}
	i.Uses += ev.Count
	w.mark(s, true)
	if i.remembered {
		w.refresh(i)
	}
	if user != nil && i.handouts != nil {
		w.usedLater(i, user, ev)
	}
	w.tell(Change{What: Used, Event: ev, Inst: i, Holder: user, Scope: s})
	if i.Watches != nil {
		name := ""
		if user != nil {
			name = user.Ref().Name()
		}
		i.touched("use", name, s, ev.T)
	}
	return nil
}

// usedLater turns a hand-out into a keeping: it was used by its receiver after the scope of the latest one had closed.
func (w *World) usedLater(i, user *Instance, ev *event.Event) {
	for n, h := range i.handouts {
		if h.to == user && h.scope.Ended {
			i.handouts = append(i.handouts[:n], i.handouts[n+1:]...)
			w.keep(user, i, h, ev)
			return
		}
	}
}

func (w *World) dispose(ev *event.Event) error {
	i := w.insts.get(uint64(ev.Inst))
	if i == nil {
		return errGone(ev.Inst)
	}
	s := w.scopeOf(ev)
	if i.DisposeLines > 0 && i.lastDispose == (disposal{ev.T, ev.State, ev.By}) {
		return fmt.Errorf("the same disposal of instance %d was written before", ev.Inst)
	}
	i.lastDispose = disposal{ev.T, ev.State, ev.By}
	i.DisposeLines++
	switch ev.State {
	case "begun":
		i.Begun = true
	case "failed":
		i.Begun = false
	case "refused":
	case "handed":
		i.Handed = true
		i.gone(w.Seq, ev)
		w.end(i, Disposed, ev.T)
	default:
		i.Begun = false
		i.Done++
		i.gone(w.Seq, ev)
		w.end(i, Disposed, ev.T)
	}
	// A container's disposal begins a closing, until new work shows that it did not.
	if i.home != nil && i.home.closingSince == 0 && !i.home.Ended && (ev.By == "" || ev.By == "container" || ev.By == "owner") {
		i.home.closingSince = w.Seq
	}
	w.tell(Change{What: DisposeSeen, Event: ev, Inst: i, Scope: s})
	return nil
}

func (w *World) forget(ev *event.Event) error {
	if !ev.Has.Has(event.FInst) {
		w.reset(ev)
		return nil
	}
	i := w.insts.get(uint64(ev.Inst))
	if i == nil {
		return errGone(ev.Inst)
	}
	w.end(i, Forgotten, ev.T)
	w.tell(Change{What: ForgottenSeen, Event: ev, Inst: i})
	return nil
}

// reset forgets what a container had built: it starts anew.
func (w *World) reset(ev *event.Event) {
	c := w.conts[ev.Container]
	if c == nil {
		return
	}
	w.Living(func(i *Instance) {
		if i.Container == c && !i.Ended {
			w.end(i, Forgotten, ev.T)
			w.tell(Change{What: ForgottenSeen, Event: ev, Inst: i})
		}
	})
	w.livingSeq = -1 // they live no more
}

// Gone says that a line is about something that ended so long ago that it is no longer remembered, or that was given
// up waiting for. Any other error of Apply means that the line contradicts an earlier one.
type Gone struct{ What string }

// Error says what is not known.
func (e *Gone) Error() string { return e.What + " is not known any more" }

func errGone(id event.InstID) error { return &Gone{fmt.Sprintf("instance %d", id)} }

// end notes that an instance is no longer alive, the first time.
func (w *World) end(i *Instance, how End, t int64) {
	if i.Ended {
		return
	}
	i.Ended, i.End, i.EndedAt, i.EndedSeq = true, how, t, w.Seq
	// What something keeps stays at home until home closes: only then is it seen whether the keeper outlived it.
	if how != HomeClosed && (len(i.KeptBy) == 0 && len(i.handouts) == 0 || i.home != nil && i.home.Parent == nil) {
		w.leaveHome(i)
	}
	w.remember(i)
}

func (w *World) close(ev *event.Event) error {
	s := w.scopes.get(uint64(ev.Scope))
	if s == nil {
		return &Gone{fmt.Sprintf("scope %d", ev.Scope)}
	}
	if s.Closed {
		return fmt.Errorf("scope %d was closed before", ev.Scope)
	}
	s.Closed = true
	if s.Ended { // by a root around it
		return nil
	}
	w.endScope(s, ev)
	return nil
}

// endScope ends s and what is at home in it; a root ends the scopes inside it first.
func (w *World) endScope(s *Scope, ev *event.Event) {
	for s.Root && len(s.children) > 0 {
		child := s.children[len(s.children)-1]
		if child.Ended {
			child.unlist()
			continue
		}
		w.endScope(child, ev)
	}
	w.tell(Change{What: ScopeClosing, Event: ev, Scope: s})
	s.Ended, s.ClosedAt, s.ClosedSeq = true, ev.T, w.Seq
	for _, i := range s.Homed {
		w.end(i, HomeClosed, ev.T)
	}
	w.tell(Change{What: ScopeClosed, Event: ev, Scope: s})
	for _, i := range s.Homed {
		i.homeIndex = -1
	}
	s.Homed, s.Built = nil, nil
	s.closingSince = 0
	// What is still open inside it goes on, and ends with the root around it.
	for len(s.children) > 0 {
		child := s.children[len(s.children)-1]
		child.unlist()
		if s.listed != nil {
			child.list(s.listed)
		}
	}
	s.unlist()
	w.rememberScope(s)
}

// Registration returns the registration with this id, nil if no line has mentioned it.
func (w *World) Registration(id event.RegID) *Registration { return w.regs[id] }
