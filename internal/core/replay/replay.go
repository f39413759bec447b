package replay

import (
	"slices"

	"keenlantern.example/record/event"
)

// The lifetimes of the trace format.
const (
	Singleton   = "singleton"
	Scoped      = "scoped"
	Transient   = "transient"
	PerConsumer = "per-consumer"
)

// Change is another lifetime or disposer for a registration; what is empty stays as it is.
type Change struct {
	Lifetime string
	Disposer string // "container", "code" or "nobody"
}

// Plan is what is played again, and how.
type Plan struct {
	Changes  map[event.RegID]Change
	Touched  map[event.RegID]bool   // the changed registrations, and those built for them whose answers can change
	Observed map[event.RegID]string // the lifetimes that registrations without a stated one behaved as
	Left     map[event.RegID]bool   // those whose instances the container was never seen to dispose, though they ended
}

// Replay plays one stream. It is not safe for use by several goroutines.
type Replay struct {
	plan Plan
	out  func(*event.Event)

	regs   map[event.RegID]*registration
	roots  map[event.ContainerID]event.ScopeID
	scopes map[event.ScopeID]*scope
	parts  map[event.InstID]*recorded // those that are played again
	ended  []event.InstID             // those of them that have ended, in a ring
	endedN int
	held   map[event.InstID]*holder // what those that are not were given of them
	single map[event.RegID]*made
	per    map[perConsumer]*made
	fresh  event.InstID // the latest id that was made up
	t      int64

	left     int64 // uses that are left out
	closings closings
	inside   []span // room

	makes   int64 // as recorded
	made    int64 // in all
	builds  int64 // of what is played again
	depth   int   // of what is being built for what
	tooMuch bool

	owned   map[event.ContainerID]bool // transient instances end with a scope there
	unowned map[event.ContainerID]bool // or with none
}

type registration struct {
	lifetime   string
	was        string // as recorded
	disposer   string
	disposable bool
	container  event.ContainerID
}

// recorded is an instance as it was recorded, from which others are made.
type recorded struct {
	ev       *event.Event
	own      int64 // ns, without what was built meanwhile
	kept     int64 // ns of what was built meanwhile, within it or what was built for it, and is not played again
	home     event.ScopeID
	homed    bool        // it ends with a scope
	deps     []*recorded // what it was given that is played again, by its places in ev.With
	asked    bool
	asker    *recorded // that is played again, too, and was the first to be given it; nil for none
	used     bool      // its id was given to one that was made from it
	last     *made
	now      *made                  // that is being built from it
	late     map[event.InstID]*made // who was handed what after its construction
	released bool
	same     *made                   // the one that is made as it was recorded, if there is one
	atRoot   *made                   // the latest one at home in the root
	in       map[event.ScopeID]*made // the latest one by the scope in which it was asked for
}

// made is an instance as it is made now.
type made struct {
	id       event.InstID
	reg      event.RegID
	from     *recorded
	home     event.ScopeID
	ns       int64
	disposes bool // by its container
	disposed bool
	bound    map[event.InstID]*made // by what was recorded in their place
	order    int64                  // of making, from 1
}

// holder is an instance that is not played again, with what it was given of those that are.
type holder struct {
	bound map[event.InstID]*made
	home  event.ScopeID
}

type scope struct {
	made    []*made               // at home in it
	scoped  map[event.RegID]*made // one of each
	shift   int64                 // ns by which what happens in it comes later than it was recorded
	parts   []event.InstID        // recorded in it, or at home in it
	asked   []*recorded           // for which something was asked for in it
	holders []event.InstID
	spans   spans
	order   map[event.InstID]int64 // of making, for instances that end with it and were made after the first of made
}

type perConsumer struct {
	reg, consumer event.RegID
	module        string
}

// The bounds. What would build much more than was recorded is of no use.
const (
	maxDepth   = 1000
	maxGrowth  = 20
	mostBuilds = 100_000
)

// TooMuch reports whether more would have been built than is worth playing: the events are no answer then.
func (r *Replay) TooMuch() bool { return r.tooMuch }

// freshFrom is where ids that are made up begin: recorders count from 1.
const freshFrom event.InstID = 1 << 52

// New returns a replay whose events go to out. An event is out's own; others that it is given go through it unchanged.
func New(plan Plan, out func(*event.Event)) *Replay {
	r := &Replay{
		plan: plan, out: out, regs: map[event.RegID]*registration{}, roots: map[event.ContainerID]event.ScopeID{},
		scopes: map[event.ScopeID]*scope{}, parts: map[event.InstID]*recorded{}, held: map[event.InstID]*holder{},
		single: map[event.RegID]*made{}, per: map[perConsumer]*made{}, fresh: freshFrom,
		owned: map[event.ContainerID]bool{}, unowned: map[event.ContainerID]bool{},
		closings: closings{held: map[event.ScopeID][]*event.Event{}, of: map[event.InstID]event.ScopeID{}},
	}
	r.scopes[0] = &scope{}
	return r
}

// Put takes the next recorded event. It may be overwritten afterwards.
func (r *Replay) Put(ev *event.Event) {
	r.t = max(r.t, ev.T)
	r.recheck(ev)
	switch ev.Kind {
	case event.Container:
		if ev.Has.Has(event.FScope) {
			r.roots[ev.Container] = ev.Scope
			r.scope(ev.Scope)
		} else {
			r.roots[ev.Container] = r.roots[ev.InCont] // its parent's, or 0
		}
	case event.Register:
		ev = r.register(ev)
	case event.Open:
		r.scope(ev.Scope)
	case event.Make:
		r.make(ev)
		return
	case event.Give:
		if r.give(ev) {
			return
		}
	case event.Use:
		if r.use(ev) {
			return
		}
	case event.Dispose, event.Forget:
		if ev = r.ends(ev); ev == nil || r.hold(ev) {
			return
		}
	case event.Fail:
		if to := r.parts[ev.To]; to != nil {
			ev = ev.Clone()
			ev.To = r.current(to, ev.Scope)
		}
	case event.Close:
		r.close(ev)
		return
	case event.Bye:
		r.Finish()
	}
	r.tell(ev)
}

// Finish ends the input.
func (r *Replay) Finish() {
	roots := r.rootScopes()
	held := make([][]*event.Event, len(roots))
	for n, id := range roots {
		held[n] = r.take(id)
	}
	for _, s := range r.sorted() {
		r.unasked(s, r.t)
	}
	for n, id := range roots {
		if s := r.scopes[id]; s != nil { // it has not been closed
			r.let(s, id, r.t, held[n])
		}
	}
	r.allGoOn()
}

// tell emits an event that happens in a scope, at the time that it now has.
func (r *Replay) tell(ev *event.Event) {
	if s := r.scopes[ev.Scope]; s != nil && s.shift != 0 && ev.Has.Has(event.FScope) {
		ev = ev.Clone()
		ev.T += s.shift
	}
	r.out(ev)
}

func (r *Replay) sorted() []*scope {
	ids := make([]event.ScopeID, 0, len(r.scopes))
	for id := range r.scopes {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	list := make([]*scope, 0, len(ids))
	for _, id := range ids {
		list = append(list, r.scopes[id])
	}
	return list
}

func (r *Replay) rootScopes() []event.ScopeID {
	ids := []event.ScopeID{0}
	for _, id := range r.roots {
		if id != 0 && r.scopes[id] != nil {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

func (r *Replay) scope(id event.ScopeID) *scope {
	s := r.scopes[id]
	if s == nil {
		s = &scope{}
		r.scopes[id] = s
	}
	return s
}

func (r *Replay) register(ev *event.Event) *event.Event {
	reg := &registration{lifetime: ev.Lifetime, was: ev.Lifetime, disposer: ev.Disposer, disposable: ev.Disposable, container: 1} // by default
	if ev.Has.Has(event.FContainer) {
		reg.container = ev.Container
	}
	if ev.Lifetime == "" {
		reg.lifetime, reg.was = r.plan.Observed[ev.Reg], r.plan.Observed[ev.Reg]
	}
	r.regs[ev.Reg] = reg
	change, ok := r.plan.Changes[ev.Reg]
	if !ok {
		return ev
	}
	ev = ev.Clone()
	if change.Lifetime != "" {
		ev.Lifetime = change.Lifetime
		ev.Has.Set(event.FLifetime)
		reg.lifetime = change.Lifetime
	}
	if change.Disposer != "" {
		ev.Disposer = change.Disposer
		ev.Has.Set(event.FDisposer)
		reg.disposer = change.Disposer
	}
	return ev
}

// root returns the scope with which instances of a registration end that live as long as their container.
func (r *Replay) root(reg event.RegID) event.ScopeID {
	if known := r.regs[reg]; known != nil {
		return r.roots[known.container]
	}
	return 0
}

// homeOf returns the scope with which a recorded instance ends, false where that is none.
func (r *Replay) homeOf(ev *event.Event) (event.ScopeID, bool) {
	reg := r.regs[ev.Reg]
	switch {
	case ev.Has.Has(event.FOwner):
		return ev.Owner, !ev.OwnerNull
	case ev.By == "direct":
		return 0, false
	case reg != nil && (reg.was == Singleton || reg.was == PerConsumer || reg.was == "external"):
		return r.root(ev.Reg), true
	}
	return ev.Scope, true
}

func (r *Replay) make(ev *event.Event) {
	r.makes++
	reg := r.regs[ev.Reg]
	if reg != nil && reg.was == Transient {
		if ev.Has.Has(event.FOwner) && ev.OwnerNull {
			r.unowned[reg.container] = true
		} else {
			r.owned[reg.container] = true
		}
	}
	own, kept := ev.NS, int64(0)
	spans := &r.scope(ev.Scope).spans
	r.inside = spans.add(ev, r.inside[:0])
	from := ev.T
	for _, w := range slices.Backward(r.inside) {
		alone := max(0, min(w.t, from)-(w.t-w.ns)) // of constructions that ran side by side, what they share counts once
		from = min(from, w.t-w.ns)
		own -= alone
		if part := r.parts[w.id]; part != nil {
			kept += part.kept
		} else {
			kept += max(0, w.now-w.ns+alone)
		}
	}
	if ev.Has.Has(event.FReg) && r.plan.Touched[ev.Reg] && ev.By != "external" {
		one := &recorded{ev: ev.Clone(), own: max(0, own), kept: kept}
		one.home, one.homed = r.homeOf(ev)
		one.deps = make([]*recorded, len(ev.With))
		for n := range ev.With {
			if dep := r.parts[ev.With[n].Inst]; dep != nil {
				one.deps[n] = dep
				dep.asked = true // by this one, if it is built
				if dep.asker == nil {
					dep.asker = one
				}
			}
		}
		r.parts[ev.Inst] = one
		s := r.scope(ev.Scope)
		s.parts = append(s.parts, ev.Inst)
		if one.homed && one.home != ev.Scope && one.home != r.root(ev.Reg) {
			in := r.scope(one.home)
			in.parts = append(in.parts, ev.Inst)
		}
		s.shift -= one.own // it may not be built, or later
		return
	}
	touched := false
	for n := range ev.With {
		touched = touched || r.parts[ev.With[n].Inst] != nil
	}
	if !touched {
		// What was built for it may take longer now, or less.
		if ns := max(0, own) + kept; ns != ev.NS && own >= 0 {
			ev = ev.Clone()
			ev.NS = ns
			spans.takes(ev)
		}
		r.note(ev)
		r.tell(ev)
		return
	}
	ev = ev.Clone()
	home, homed := r.homeOf(ev)
	if !homed {
		home = ev.Scope
	}
	h := &holder{bound: map[event.InstID]*made{}, home: home}
	built := int64(0)
	for n := range ev.With {
		w := &ev.With[n]
		part := r.parts[w.Inst]
		if part == nil {
			continue
		}
		m, ns := r.ask(part, request{home: r.asksFrom(part, home), scope: ev.Scope, t: ev.T, consumer: ev.Reg, module: ev.Module})
		h.bound[w.Inst] = m
		built += ns
		w.Inst = m.id
	}
	if ev.Has.Has(event.FNS) {
		ev.NS = max(0, own) + kept + built
		spans.takes(ev)
	}
	r.held[ev.Inst] = h
	in := r.scope(home)
	in.holders = append(in.holders, ev.Inst)
	r.note(ev)
	r.tell(ev)
}

// note keeps the order of making of an instance that ends with a scope in which others are played.
func (r *Replay) note(ev *event.Event) {
	r.made++
	home, homed := r.homeOf(ev)
	if s := r.scopes[home]; homed && s != nil && len(s.made) > 0 {
		s.inOrder(ev.Inst, r.made)
	}
}

// maxOrder bounds the instances of a scope whose order is kept. Others count as made before what is played.
const maxOrder = 65_536

func (s *scope) inOrder(inst event.InstID, order int64) {
	if s.order == nil {
		s.order = map[event.InstID]int64{}
	}
	if len(s.order) < maxOrder {
		s.order[inst] = order
	}
}

// request is a time that something is asked for.
type request struct {
	home     event.ScopeID // the scope that it is resolved from
	scope    event.ScopeID // the work that is going on
	t        int64
	consumer event.RegID
	module   string
}

// asksFrom returns the scope that a recorded instance was resolved from. Its own home shows it if it lived no longer; else it is where
// the consumer belongs.
func (r *Replay) asksFrom(part *recorded, consumer event.ScopeID) event.ScopeID {
	reg := r.regs[part.ev.Reg]
	if reg != nil && (reg.was == Scoped || reg.was == Transient) && part.homed {
		return part.home
	}
	return consumer
}

// ask answers a request for what was answered by part when it was recorded. It returns the ns that were spent on building.
func (r *Replay) ask(part *recorded, q request) (*made, int64) {
	part.asked = true
	reg := r.regs[part.ev.Reg]
	lifetime := Transient
	if reg != nil {
		lifetime = reg.lifetime
	}
	var m *made
	keep := func(*made) {}
	home := q.home
	switch lifetime {
	case Singleton, "external":
		home = r.root(part.ev.Reg)
		m = r.single[part.ev.Reg]
		keep = func(m *made) { r.single[part.ev.Reg] = m }
	case PerConsumer:
		home = r.root(part.ev.Reg)
		key := perConsumer{part.ev.Reg, q.consumer, q.module}
		if q.module != "" {
			key.consumer = 0
		}
		m = r.per[key]
		keep = func(m *made) { r.per[key] = m }
	case Scoped:
		in := r.scope(home)
		m = in.scoped[part.ev.Reg]
		keep = func(m *made) {
			if in.scoped == nil {
				in.scoped = map[event.RegID]*made{}
			}
			in.scoped[part.ev.Reg] = m
		}
	}
	built := int64(0)
	if m == nil && part.now != nil {
		m = part.now // a cycle comes back to it
	}
	if m == nil {
		m = r.build(part, home, lifetime, q, keep)
		built = m.ns
	}
	part.last = m
	if part.in == nil {
		part.in = map[event.ScopeID]*made{}
	}
	if _, known := part.in[q.scope]; !known {
		in := r.scope(q.scope)
		in.asked = append(in.asked, part)
	}
	part.in[q.scope] = m
	return m, built
}

// build makes an instance from a recorded one.
func (r *Replay) build(part *recorded, home event.ScopeID, lifetime string, q request, keep func(*made)) *made {
	ev := part.ev.Clone()
	first := !part.used
	part.used = true
	m := &made{id: ev.Inst, reg: ev.Reg, from: part, home: home, ns: part.own, bound: map[event.InstID]*made{}}
	ev.T = q.t
	if !first {
		r.fresh++
		m.id, ev.Inst = r.fresh, r.fresh
	}
	r.goesOn(home)
	keep(m)
	part.now = m
	r.depth++
	r.builds++
	r.tooMuch = r.tooMuch || r.builds > mostBuilds+maxGrowth*r.makes
	for n := range ev.With {
		w := &ev.With[n]
		dep := part.deps[n]
		if dep == nil || r.depth > maxDepth || r.tooMuch {
			continue
		}
		from := home
		if home == part.home {
			from = r.asksFrom(dep, home)
		}
		d, ns := r.ask(dep, request{home: from, scope: q.scope, t: q.t, consumer: ev.Reg, module: ev.Module})
		m.bound[w.Inst] = d
		m.ns += ns
		w.Inst = d.id
	}
	r.depth--
	part.now = nil
	if ev.Has.Has(event.FNS) {
		ev.NS = m.ns
	}
	ev.Scope = q.scope
	ev.Has.Set(event.FScope)
	r.scope(q.scope).shift += part.own
	reg := r.regs[ev.Reg]
	asItWas := first && reg != nil && reg.lifetime == reg.was && home == part.home
	if asItWas {
		part.same = m
	} else {
		ev.Has.Set(event.FOwner)
		ev.Owner, ev.OwnerNull = home, false
		if lifetime == Transient && reg != nil && r.unowned[reg.container] && !r.owned[reg.container] {
			ev.OwnerNull = true
		}
	}
	change := r.plan.Changes[ev.Reg]
	if change.Disposer != "" {
		ev.Disposer = change.Disposer
		ev.Has.Set(event.FDisposer)
	}
	disposable := ev.Disposable
	disposer := ev.Disposer
	if reg != nil {
		disposable = disposable || reg.disposable && !ev.Has.Has(event.FDisposable)
		if disposer == "" {
			disposer = reg.disposer
		}
	}
	// What became of one that is made as it was has been recorded.
	m.disposes = !asItWas && disposable && (disposer == "" || disposer == "container") && !ev.OwnerNull
	if r.plan.Left[ev.Reg] && change.Disposer == "" {
		m.disposes = false
	}
	if asItWas && change.Disposer == "container" {
		m.disposes = true
	}
	r.made++
	m.order = r.made
	if home == r.root(ev.Reg) {
		part.atRoot = m
	}
	in := r.scope(home)
	if asItWas && len(in.made) > 0 {
		in.inOrder(m.id, m.order)
	}
	if m.disposes {
		if len(in.made) == cap(in.made) { // before it grows: what has been disposed needs no place
			in.made = slices.DeleteFunc(in.made, func(m *made) bool { return m.disposed })
		}
		in.made = append(in.made, m)
	}
	r.tell(ev)
	return m
}

// unasked answers what was built without a recorded request: the application's code, or the container itself, has.
func (r *Replay) unasked(s *scope, t int64) {
	for _, id := range s.parts {
		if part := r.parts[id]; part != nil && !part.asked {
			r.unaskedOne(part, t)
		}
	}
}

func (r *Replay) unaskedOne(part *recorded, t int64) {
	home := part.home
	if reg := r.regs[part.ev.Reg]; !part.homed || reg != nil && reg.was != reg.lifetime {
		home = part.ev.Scope // where the work ran that asked for it, as far as it was seen
	}
	r.ask(part, request{home: home, scope: part.ev.Scope, t: min(t, part.ev.T), module: part.ev.Module})
}

func (r *Replay) give(ev *event.Event) bool {
	part, to := r.parts[ev.Inst], r.parts[ev.To]
	if part == nil && to == nil {
		return false
	}
	recorded := ev.Inst
	ev = ev.Clone()
	if part != nil {
		home := ev.Scope
		if ev.To != 0 && (event.Injected(ev.How) || ev.How == "method") {
			if h := r.held[ev.To]; h != nil && ev.How != "method" {
				home = h.home // its container injects from there
			}
			home = r.asksFrom(part, home)
		} else if reg := r.regs[part.ev.Reg]; reg != nil && reg.was != reg.lifetime {
			home = ev.Scope
		} else {
			home = r.asksFrom(part, home)
		}
		m, ns := r.ask(part, request{home: home, scope: ev.Scope, t: ev.T})
		r.scope(ev.Scope).spans.played(ev.T, ns)
		if h := r.held[ev.To]; h != nil {
			h.bound[ev.Inst] = m
		}
		if to != nil && to.last != nil {
			to.last.bound[ev.Inst] = m
		}
		ev.Inst = m.id
	}
	if to != nil {
		ev.To = r.current(to, ev.Scope)
		if m := r.standsFor(to, ev.Scope); m != nil {
			if to.late == nil {
				to.late = map[event.InstID]*made{}
			}
			to.late[recorded] = m
		}
	}
	r.tell(ev)
	return true
}

// Left returns how many uses were left out, since it is not known which instance they would go to: what an instance was handed after
// its construction who now is another one, and what is not built any more.
func (r *Replay) Left() int64 { return r.left }

// current returns the id of what stands for a recorded instance in a scope, 0 for none.
func (r *Replay) current(part *recorded, scope event.ScopeID) event.InstID {
	if m := r.standsFor(part, scope); m != nil {
		return m.id
	}
	return 0
}

func (r *Replay) standsFor(part *recorded, scope event.ScopeID) *made {
	return r.stands(part, scope, 0)
}

// stands uses what has been asked for or, where it was asked for by one that is not built any more, by what the one in that one's
// place was given.
func (r *Replay) stands(part *recorded, scope event.ScopeID, hops int) *made {
	m := part.in[scope]
	if m == nil {
		m = part.last
	}
	if m == nil && part.asker == nil || hops == maxHops {
		return m
	}
	if m != nil {
		return r.living(part, m)
	}
	asker := r.stands(part.asker, scope, hops+1)
	if asker == nil {
		return nil
	}
	return asker.bound[sameGiven(part.asker, asker.from, part.ev.Inst)]
}

// living returns m or, where its scope has closed while the recorded one lived on, another one that could have been meant: it is not
// known on whose behalf something was called.
func (r *Replay) living(part *recorded, m *made) *made {
	reg := part.ev.Reg
	var root *made
	if s := r.scopes[r.root(reg)]; s != nil {
		root = s.scoped[reg]
	}
	for _, one := range []*made{m, part.same, r.single[reg], root, part.atRoot} {
		if one != nil && (one == part.same || r.scopes[one.home] != nil) {
			return one
		}
	}
	return nil
}

// maxHops is how many askers are followed.
const maxHops = 64

func (r *Replay) use(ev *event.Event) bool {
	part, user, holder := r.parts[ev.Inst], r.parts[ev.User], r.held[ev.User]
	if part == nil && user == nil && (holder == nil || holder.bound[ev.Inst] == nil) {
		return false
	}
	ev = ev.Clone()
	var by *made
	if user != nil {
		if by = r.standsFor(user, ev.Scope); by != nil {
			ev.User = by.id
		}
		if had := user.late[ev.Inst]; had != nil && had != by {
			r.left++
			return true
		}
	}
	used := ev.Inst
	if by != nil && by.from != user {
		used = sameGiven(user, by.from, used)
	}
	var m *made
	switch {
	case by != nil && by.bound[used] != nil:
		m = by.bound[used]
	case holder != nil && holder.bound[used] != nil:
		m = holder.bound[used]
	case part != nil && used == ev.Inst:
		if m = r.standsFor(part, ev.Scope); m == nil && !part.asked {
			var ns int64
			m, ns = r.ask(part, request{home: r.asksFrom(part, ev.Scope), scope: ev.Scope, t: ev.T})
			r.scope(ev.Scope).spans.played(ev.T, ns)
		}
	}
	if m != nil {
		used = m.id
	} else if part != nil && used == ev.Inst {
		r.left++ // it is not built any more
		return true
	}
	ev.Inst = used
	r.tell(ev)
	return true
}

// sameGiven returns what another one was given in the place in which one was given inst.
func sameGiven(one, other *recorded, inst event.InstID) event.InstID {
	for n := range one.ev.With {
		if one.ev.With[n].Inst == inst && n < len(other.ev.With) {
			return other.ev.With[n].Inst
		}
	}
	return inst
}

// ends takes a disposal, or that something is gone. What the code of the application does stays; what the container did is done again
// when the new homes close. It returns the event as it is played, nil for none.
func (r *Replay) ends(ev *event.Event) *event.Event {
	part := r.parts[ev.Inst]
	if part == nil {
		delete(r.held, ev.Inst)
		return ev
	}
	if part.last == nil && !part.asked {
		r.unaskedOne(part, ev.T)
	}
	code := ev.By == "code"
	m := part.same
	if code || m == nil {
		m = r.standsFor(part, ev.Scope)
	}
	if ev.Kind == event.Forget || ev.State == "" || ev.State == "done" {
		defer r.release(ev.Inst)
	}
	if m == nil || m.disposed {
		return nil
	}
	same := m == part.same
	if change := r.plan.Changes[m.reg]; change.Disposer != "" && code != (change.Disposer == "code") {
		return nil // that is another one's business now
	}
	if !same && !code {
		return nil
	}
	if !same && m.home == r.root(m.reg) && ev.Kind == event.Forget {
		return nil // it lives on
	}
	ev = ev.Clone()
	ev.Inst = m.id
	if ev.State == "" || ev.State == "done" || ev.State == "failed" || ev.Kind == event.Forget {
		m.disposed = true
	}
	return ev
}

// release evicts the record of an ended instance once many others have ended since.
func (r *Replay) release(id event.InstID) {
	part := r.parts[id]
	if part == nil || part.released {
		return
	}
	part.released = true
	if len(r.ended) < maxEnded {
		r.ended = append(r.ended, id)
		return
	}
	at := r.endedN % maxEnded
	delete(r.parts, r.ended[at])
	r.ended[at] = id
	r.endedN++
}

// maxEnded is how many instances that have ended are known, for lines that speak of them.
const maxEnded = 8192

func (r *Replay) close(ev *event.Event) {
	s := r.scopes[ev.Scope]
	if s == nil {
		r.tell(ev)
		return
	}
	held := r.take(ev.Scope)
	r.unasked(s, ev.T)
	r.let(s, ev.Scope, ev.T, held)
	for _, id := range s.parts {
		if part := r.parts[id]; part != nil && part.homed && part.home == ev.Scope {
			r.release(id)
		}
	}
	for _, part := range s.asked {
		delete(part.in, ev.Scope)
	}
	for _, id := range s.holders {
		delete(r.held, id)
	}
	r.tell(ev)
	delete(r.scopes, ev.Scope)
}

// spans are the latest constructions in a scope that no other one was seen to contain, to know what was built within what.
type spans []span

type span struct {
	id    event.InstID
	t, ns int64 // as recorded
	now   int64 // ns, as it is played
}

// maxSpans bounds how many are searched for those within the next one.
const maxSpans = 64

// add takes the next construction, and appends to inside those that ran within it, not within another one of them, by when they ended.
func (l *spans) add(ev *event.Event, inside []span) []span {
	list := *l
	if len(list) >= 2*maxSpans {
		list = append(list[:0], list[len(list)-maxSpans:]...)
	}
	if ev.NS > 0 {
		kept := max(0, len(list)-maxSpans)
		for _, s := range list[kept:] {
			if s.t <= ev.T && s.t-s.ns >= ev.T-ev.NS {
				inside = append(inside, s)
			} else {
				list[kept] = s
				kept++
			}
		}
		list = list[:kept]
	}
	*l = append(list, span{ev.Inst, ev.T, ev.NS, ev.NS})
	return inside
}

// played notes what is built at a time that the construction around it has to be given, if there is one.
func (l *spans) played(t, ns int64) {
	if ns > 0 {
		*l = append(*l, span{t: t, now: ns})
	}
}

// takes notes how long the latest one takes now.
func (l spans) takes(ev *event.Event) { l[len(l)-1].now = ev.NS }
