package ledger

import (
	"fmt"

	"keenlantern.example/record/event"
)

func (w *World) make(ev *event.Event) error {
	if old := w.insts.get(uint64(ev.Inst)); old != nil {
		return fmt.Errorf("instance %d was made before, on line %d", ev.Inst, old.MadeLine)
	}
	i := w.newInstance(keepings(ev))
	// One by one: to copy a whole struct onto the heap costs the collector's attention.
	i.ID, i.By, i.Made, i.MadeSeq, i.MadeLine, i.NS = ev.Inst, ev.By, ev.T, w.Seq, ev.Line, ev.NS
	i.Scope, i.Container, i.homeIndex = w.scopeFor(ev.Scope), w.first, -1
	i.Particulars, i.Letting = &nothingSaid, &notLetGo
	if i.By == "" {
		i.By = "container"
	}
	if ev.Has.Has(event.FReg) {
		i.Reg = w.registration(ev.Reg)
	}
	if i.Reg != nil {
		i.Reg.Made++
		i.Reg.Most = max(i.Reg.Most, i.Reg.Made-i.Reg.Ended)
		i.Container = i.Reg.Container
		if !i.Reg.Known && len(i.Reg.early) < Remembered {
			i.Reg.early = append(i.Reg.early, i)
		}
	}
	if ev.Has.Has(event.FContainer) {
		if c := w.containerByID(ev.Container); c != nil {
			i.Container = c
			i.SetFlag(containerSet)
		}
	}
	w.contained.add(w, i)
	if ev.Has.Meets(particular) {
		i.Particulars = particularsOf(ev, i.Reg)
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
	i.Scope.Makes++
	if !i.Scope.Root && !i.Scope.Ended && len(i.Scope.Built) < maxBuilt {
		if i.Scope.Built == nil {
			i.Scope.Built = w.room()
		}
		i.Scope.Built = append(i.Scope.Built, i)
		i.built = true
	}
	w.mark(i.Scope, false)
	w.tell(Change{What: Made, Event: ev, Inst: i, Scope: i.Scope})
	w.passing(i, ev)
	w.endLate(i)
	w.Step(len(i.Keeps))
	for n := range i.Keeps {
		if i.Keeps[n].Kept != nil {
			w.bind(i, n, ev)
		}
	}
	w.arrive(i, ev)
	return nil
}

// containerSet is on instances whose make names their container.
var containerSet = NewFlag()

// passing reports instances that i was given and only read during its construction: hand-outs that are not kept. What it was given
// becomes no part of it.
func (w *World) passing(i *Instance, ev *event.Event) {
	for n := range ev.With {
		g := &ev.With[n]
		if !g.Passing || g.Inst == 0 {
			continue
		}
		given := w.insts.get(uint64(g.Inst))
		if given == nil && len(w.readLate) < maxAwaited {
			i.HoldForGood()
			late := ev.Clone()
			late.With = []event.With{*g}
			w.readLate[g.Inst] = append(w.readLate[g.Inst], read{i, late})
		}
		if given != nil && given != i {
			w.read(given, i, ev)
		}
	}
}

// read records that given was read during the construction of i.
func (w *World) read(given, i *Instance, ev *event.Event) {
	given.received(uint64(i.ID), i.Scope)
	w.tell(Change{What: Given, Event: ev, Inst: given, Holder: i, Scope: i.Scope})
}

// read is an instance that was read during a construction whose line came before the instance's.
type read struct {
	by *Instance
	ev *event.Event // of the construction, with nothing else in its list
}

// particular are the fields of a make that Particulars hold.
var particular = event.Of(event.FSize, event.FModule, event.FImpl, event.FAt, event.FDisposable, event.FDisposer)

// particularsOf returns those of ev, shared with the registration's latest instance if they are equal.
func particularsOf(ev *event.Event, reg *Registration) *Particulars {
	said := Particulars{
		Size: ev.Size, Module: ev.Module, impl: ev.Impl, at: ev.At, disposable: ev.Disposable,
		disposableSet: ev.Has.Has(event.FDisposable), disposer: ev.Disposer,
	}
	if reg != nil && reg.said != nil && *reg.said == said {
		return reg.said
	}
	fresh := said // only this one goes to the heap
	if reg != nil {
		reg.said = &fresh
	}
	return &fresh
}

// maxBuilt bounds how many makes one scope remembers until it closes.
const maxBuilt = 10_000

// defaultHome gives an instance whose make names no owner the one its lifetime implies, as soon as that is known.
func (w *World) defaultHome(i *Instance) {
	switch {
	case i.By == "direct":
	case i.Reg != nil && !i.Reg.Known: // it gets one in settle
	case i.Class().Long() || i.Pooled():
		w.homeIn(i, i.Container.Root)
	default:
		w.homeIn(i, i.Scope)
	}
}

// settle gives an instance that was made before its registration came the home it has by it.
func (w *World) settle(i *Instance) {
	if !i.Flagged(containerSet) && i.Container != i.Reg.Container {
		i.Container = i.Reg.Container
		w.contained.add(w, i)
	}
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
	w.Step(len(i.KeptBy) + len(i.Keeps))
	for _, k := range i.KeptBy {
		w.tell(Change{What: Bound, Inst: i, Holder: k.Holder, Scope: i.Scope, Homed: !i.ownerSet})
	}
	for n := range i.Keeps {
		if kept := i.Keeps[n].Kept; kept != nil {
			w.tell(Change{What: Bound, Inst: kept, Holder: i, Scope: i.Scope, Homed: !i.ownerSet})
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
	i.homeIndex = int32(len(s.Homed))
	if s.Homed == nil {
		s.Homed = w.room()
	}
	s.Homed = append(s.Homed, i)
}

// room returns an empty list for a scope: one that another scope has given back, or a new one.
func (w *World) room() []*Instance {
	if last := len(w.rooms) - 1; last >= 0 {
		list := w.rooms[last]
		w.rooms = w.rooms[:last]
		return list
	}
	return make([]*Instance, 0, 4)
}

// giveBack takes the list of a scope that has ended.
func (w *World) giveBack(list []*Instance) {
	if cap(list) > 0 && cap(list) <= maxRoomy && len(w.rooms) < maxRooms {
		clear(list)
		w.rooms = append(w.rooms, list[:0])
	}
}

// The bounds of the lists that wait for a scope.
const (
	maxRoomy = 256
	maxRooms = 256
)

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

// keepings returns how many edges a make brings at most.
func keepings(ev *event.Event) (n int) {
	for k := range ev.With {
		if g := &ev.With[k]; g.Inst != 0 && !g.Passing && !g.Absent {
			n++
		}
	}
	return n
}

// newInstance returns one with room for n edges: a forgotten one, or a new one whose edges stand beside it where they are
// few, since what is made together and goes together is one piece of memory.
func (w *World) newInstance(n int) *Instance {
	if last := len(w.spare) - 1; last >= 0 {
		i := w.spare[last]
		w.spare[last] = nil
		w.spare = w.spare[:last]
		keeps, keptBy := i.Keeps[:0], i.KeptBy[:0]
		if cap(keeps) < n || cap(keeps) > n+maxRoom {
			keeps = make([]Edge, 0, n)
		}
		if cap(keptBy) > maxRoom {
			keptBy = nil
		}
		*i = Instance{} // cleared where it is: with the lists in it, it would be made elsewhere and copied
		i.Keeps, i.KeptBy = keeps, keptBy
		return i
	}
	switch n {
	case 0:
		return &Instance{}
	case 1:
		one := &struct {
			Instance
			edges [1]Edge
		}{}
		one.Keeps = one.edges[:0]
		return &one.Instance
	case 2:
		two := &struct {
			Instance
			edges [2]Edge
		}{}
		two.Keeps = two.edges[:0]
		return &two.Instance
	}
	return &Instance{Keeps: make([]Edge, 0, n)}
}

// maxRoom is how much more room for edges an instance that is used again may have than it needs.
const maxRoom = 8

// keepAll notes what an instance was given and keeps, by its make.
func (w *World) keepAll(i *Instance, ev *event.Event) {
	for k := range ev.With {
		g := &ev.With[k]
		if g.Inst == 0 || g.Passing || g.Absent || w.proxied(g.Via) {
			continue
		}
		site := g.Site
		if site == "" && i.Reg != nil {
			if need := i.Reg.AskedAt(g.Slot); need != nil {
				site = need.Site
			}
		}
		kept := w.insts.get(uint64(g.Inst))
		edge := Edge{Kept: kept, ID: g.Inst, Site: site, At: ev.T, Slot: int32(g.Slot), All: g.All, back: -1}
		if said := g.Service != "" || g.HasKey; said || g.Via != 0 {
			edge.Request = &Request{Asked: Asked{g.Service, g.Key, g.HasKey}, Said: said}
			if g.Via != 0 {
				edge.Request.Via = w.registration(g.Via)
			}
		}
		i.Keeps = append(i.Keeps, edge)
		if kept == nil {
			w.await(g.Inst, i, len(i.Keeps)-1)
		}
	}
}

// proxied reports whether what was asked for only looks another registration up, so that keeping it keeps nothing.
func (w *World) proxied(via event.RegID) bool {
	if via == 0 {
		return false
	}
	r := w.registration(via)
	return r != nil && r.Proxy != nil
}

// maxAwaited bounds how many instances to come are waited for.
const maxAwaited = Remembered

// awaiting is a keeping of an instance whose make has not come yet.
type awaiting struct {
	holder *Instance
	edge   int
}

// await notes that a keeping of holder's waits for its instance.
func (w *World) await(id event.InstID, holder *Instance, edge int) {
	if w.awaiting < maxAwaited {
		holder.HoldForGood() // until it comes, if ever
		w.awaited[id] = append(w.awaited[id], awaiting{holder, edge})
		w.awaiting++
	}
}

// arrive ties the holders that mentioned i before it came.
func (w *World) arrive(i *Instance, ev *event.Event) {
	if len(w.readLate) > 0 {
		late := w.readLate[i.ID]
		delete(w.readLate, i.ID)
		for _, r := range late {
			w.read(i, r.by, r.ev)
		}
	}
	if len(w.awaited) == 0 {
		return
	}
	waited := w.awaited[i.ID]
	delete(w.awaited, i.ID)
	w.awaiting -= len(waited)
	w.Step(len(waited))
	for _, a := range waited {
		if h := a.holder; a.edge < len(h.Keeps) && h.Keeps[a.edge].ID == i.ID && h.Keeps[a.edge].Kept == nil {
			h.Keeps[a.edge].Kept = i
			w.bind(h, a.edge, ev)
		}
	}
}

// maxContext bounds how many holders are kept for an instance that lives as long as its container: they
// explain a finding and decide none, and there may be one in every request.
const maxContext = 16

// bind makes holder's n-th edge known from both sides and reports it.
func (w *World) bind(holder *Instance, n int, ev *event.Event) {
	edge := &holder.Keeps[n]
	kept := edge.Kept
	kept.received(uint64(holder.ID), holder.Scope)
	kept.lease(edge.At)
	if kept.End == Forgotten && kept.home != nil && !kept.home.Ended && !kept.InHome() {
		w.homeIn(kept, kept.home) // it is kept all the same: whether by something that outlives its home is seen when home closes
	}
	if kept.ownerNull && kept.home == nil && holder.home != nil {
		w.inherit(kept, holder.home)
	}
	if kept.keepersMatter() || len(kept.KeptBy) < maxContext && (holder.home == nil || !kept.home.Outlasts(holder.home)) {
		edge.back = int32(len(kept.KeptBy))
		if kept.KeptBy == nil {
			kept.KeptBy = kept.oneKeeper[:0]
		}
		kept.KeptBy = append(kept.KeptBy, Keeper{holder, n})
	} else {
		kept.HoldForGood() // holders point to it that it does not know
	}
	w.tell(Change{What: Bound, Event: ev, Inst: kept, Holder: holder, Edge: edge, Scope: holder.Scope})
}

// keepersMatter reports whether all holders of i have to be known: not where i is meant to outlast them.
func (i *Instance) keepersMatter() bool {
	return !(i.home != nil && i.home.Root && i.Class().Long())
}

// inherit gives a home to an instance that lives as long as what keeps it.
func (w *World) inherit(i *Instance, home *Scope) {
	w.homeIn(i, home)
	w.endLate(i)
	w.passOn(i)
}

// passOn gives i's home to what it keeps and that lives as long as i does.
func (w *World) passOn(i *Instance) {
	w.Step(len(i.Keeps))
	for n := range i.Keeps {
		if k := i.Keeps[n].Kept; k != nil && k.ownerNull && k.home == nil {
			w.inherit(k, i.home)
		}
	}
}
