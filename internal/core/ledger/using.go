package ledger

import (
	"fmt"
	"slices"

	"keenlantern.example/record/event"
)

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
	if s != nil {
		w.mark(s, false)
	} else {
		w.mark(i.home, false) // the receiver, if that is unknown: its home is not closing
	}
	if ev.Entry != "" {
		s.working()
	}
	w.refresh(i)
	i.lease(ev.T)
	if to != nil {
		i.received(uint64(to.ID), s)
	} else if ev.Entry != "" {
		i.received(0, s)
	}
	w.workIn(i, s)
	w.tell(Change{What: Given, Event: ev, Inst: i, Holder: to, Scope: s})
	// After the rules, which may have begun to follow it on account of this very line.
	if i.rare != nil {
		name := ev.Entry
		if to != nil {
			name = to.Ref().Name()
		}
		i.touched("give", name, s, ev.T)
	}
	if to == nil {
		return nil
	}
	if event.Injected(ev.How) {
		w.keep(to, i, handout{scope: s, at: ev.T, site: ev.Site}, ev)
		return nil
	}
	w.handOut(i, to, s, ev)
	return nil
}

// keep notes an edge that came after the holder's make.
func (w *World) keep(holder, kept *Instance, how handout, ev *event.Event) {
	w.Step(len(holder.Keeps))
	for n := range holder.Keeps {
		if holder.Keeps[n].ID == kept.ID {
			return
		}
	}
	// A property that is set again holds one thing at a time; what it held before is released by no line, so
	// the edge stays, but not without bound.
	edge := Edge{Kept: kept, ID: kept.ID, Site: how.site, At: how.at, Slot: -1, back: -1}
	n := len(holder.Keeps)
	if n < maxKept {
		holder.Keeps = append(holder.Keeps, edge)
	} else {
		n = holder.rarely().dropNext % maxKept
		holder.rare.dropNext++
		w.unkeep(holder, n)
		holder.Keeps[n] = edge
	}
	w.bind(holder, n, ev)
}

// maxKept bounds what one instance keeps through properties and later uses; past it the oldest is released.
const maxKept = 4096

// maxHandouts bounds the receivers remembered for one instance.
const maxHandouts = 1024

// handOut remembers a hand-out that may turn out to be kept, where that could ever matter.
func (w *World) handOut(i, to *Instance, s *Scope, ev *event.Event) {
	if s == nil || i.home == nil || (i.home == i.Root() && (to.home == nil || !to.home.Root)) {
		return
	}
	r := i.rarely()
	kept := r.handouts[:0]
	for _, h := range r.handouts {
		if h.to != to && !h.to.Ended {
			kept = append(kept, h)
		} else {
			h.to.Let()
		}
	}
	if len(kept) == maxHandouts {
		kept[0].to.Let()
		kept = kept[1:]
	}
	r.handouts = append(kept, handout{to.Hold(), s, ev.T, ev.Site})
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
	w.mark(s, true)
	if i.Reg != nil {
		i.Reg.Used += ev.Count
	}
	if s != nil {
		s.Uses += ev.Count
	}
	if i.place > 0 {
		w.refresh(i)
	}
	if user != nil && i.handouts() != nil {
		w.usedLater(i, user, ev)
	}
	w.workIn(i, s)
	w.tell(Change{What: Used, Event: ev, Inst: i, Holder: user, Scope: s})
	if i.rare != nil {
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
	for n, h := range i.rare.handouts {
		if h.to == user && h.scope.Ended {
			i.rare.handouts = append(i.rare.handouts[:n], i.rare.handouts[n+1:]...)
			user.Let()
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
	if i.Letting == &notLetGo {
		i.Letting = w.letting()
	}
	i.lastDispose = disposal{ev.T, ev.State, ev.By}
	if i.home != nil && i.home.Root {
		i.home.LastLine = w.Line
	}
	i.DisposeLines++
	switch ev.State {
	case "begun":
		i.Begun, i.BegunSeq = true, w.Seq
	case "failed":
		i.Begun = false
	case "refused":
	case "returned":
		i.ReturnedSeq, i.ReturnedAt, i.ReturnedIn = w.Seq, ev.T, w.scopeOf(ev)
	case "handed":
		i.Handed = true
		i.gone(w.Seq, s, ev)
		w.end(i, Disposed, ev.T)
	default:
		i.Begun = false
		i.Done++
		i.gone(w.Seq, s, ev)
		w.end(i, Disposed, ev.T)
	}
	// A container's disposal begins a closing, until new work shows that it did not.
	if ev.State != "returned" && i.home != nil && i.home.closingSince == 0 && !i.home.Ended && (ev.By == "" || ev.By == "container" || ev.By == "owner") {
		i.home.closingSince = w.Seq
	}
	w.tell(Change{What: DisposeSeen, Event: ev, Inst: i, Scope: s})
	return nil
}

func (w *World) letting() *Letting {
	if last := len(w.lettings) - 1; last >= 0 {
		l := w.lettings[last]
		w.lettings = w.lettings[:last]
		*l = Letting{}
		return l
	}
	return &Letting{}
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

// reset forgets what a container had built: it restarts.
func (w *World) reset(ev *event.Event) {
	c := w.containerByID(ev.Container)
	if c == nil {
		return
	}
	for _, id := range w.contained.take(w, c) {
		if i := w.insts.get(uint64(id)); i != nil && i.Container == c && !i.Ended {
			w.end(i, Forgotten, ev.T)
			w.tell(Change{What: ForgottenSeen, Event: ev, Inst: i})
		}
	}
	w.livingSeq = -1 // they live no more
}

// contained lists the instances of each container, so that the cost of a reset is proportional to the instances it ends. It is empty in a stream without resets.
type contained struct {
	lists map[*Container][]event.InstID // may have some that have ended
	live  map[*Container]int            // how many of a list were alive when it was last gone through
}

// add notes a new instance.
func (l *contained) add(w *World, i *Instance) {
	if l.lists == nil {
		return
	}
	l.lists[i.Container] = append(l.lists[i.Container], i.ID)
	l.shrink(w, i.Container)
}

// take returns the instances of a container in the order of their ids, and takes them off the list.
func (l *contained) take(w *World, c *Container) []event.InstID {
	if l.lists == nil {
		l.lists, l.live = map[*Container][]event.InstID{}, map[*Container]int{}
		w.Living(func(i *Instance) { l.lists[i.Container] = append(l.lists[i.Container], i.ID) })
	}
	list := l.lists[c]
	delete(l.lists, c)
	delete(l.live, c)
	slices.Sort(list)
	return list
}

// shrink drops those that have ended from the list of a container once they are the larger part of it.
func (l *contained) shrink(w *World, c *Container) {
	list := l.lists[c]
	if len(list) < 64 || len(list) < 2*l.live[c] {
		return
	}
	w.Step(len(list))
	list = slices.DeleteFunc(list, func(id event.InstID) bool {
		i := w.insts.get(uint64(id))
		return i == nil || i.Ended || i.Container != c
	})
	l.lists[c], l.live[c] = slices.Clip(list), len(list)
}

// Gone records that a line is about something that ended so long ago that it is no longer remembered, or that was given
// up waiting for. Any other error of Apply means that the line contradicts an earlier one.
type Gone struct{ What string }

// Error returns what is not known.
func (e *Gone) Error() string { return e.What + " is not known any more" }

func errGone(id event.InstID) error { return &Gone{fmt.Sprintf("instance %d", id)} }

// end notes that an instance is no longer alive, the first time.
func (w *World) end(i *Instance, how End, t int64) {
	if i.Ended {
		return
	}
	i.Ended, i.End, i.EndedAt, i.EndedSeq = true, how, t, w.Seq
	if i.Reg != nil {
		i.Reg.Ended++
	}
	w.tell(Change{What: InstanceEnded, Inst: i, Scope: i.home})
	// What something keeps stays at home until home closes: only then is it seen whether the keeper outlived it.
	if how != HomeClosed && (len(i.KeptBy) == 0 && len(i.handouts()) == 0 || i.home != nil && i.home.Parent == nil) {
		w.leaveHome(i)
	}
	w.remember(i)
}
