package replay

import (
	"maps"
	"slices"

	"keenlantern.example/record/event"
)

// closings holds a container's disposals until the scope closes, so that played instances are disposed between those that
// were recorded, in one order: the latest made first, as containers do. If the scope is used further, the disposals were no closing and
// are passed on unchanged.
type closings struct {
	held map[event.ScopeID][]*event.Event
	of   map[event.InstID]event.ScopeID // the scope for which an instance's lines are held
}

// maxHeld bounds the disposals that are held for a scope. Those of a larger closing are passed on in pieces, before what is played.
const maxHeld = 16_384

// hold reports whether it keeps a dispose or forget for the close of its scope.
func (r *Replay) hold(ev *event.Event) bool {
	id, held := r.closings.of[ev.Inst]
	if !held {
		id = ev.Scope
		s := r.scopes[id]
		if ev.Kind != event.Dispose || ev.By != "" && ev.By != "container" || !ev.Has.Has(event.FScope) || s == nil || len(s.made)+len(s.parts) == 0 {
			return false
		}
		r.closings.of[ev.Inst] = id
	}
	if len(r.closings.held[id]) == maxHeld {
		r.goesOn(id)
		return false
	}
	r.closings.held[id] = append(r.closings.held[id], ev.Clone())
	return true
}

// take removes and returns the held lines of a scope.
func (r *Replay) take(id event.ScopeID) []*event.Event {
	list := r.closings.held[id]
	delete(r.closings.held, id)
	for _, ev := range list {
		delete(r.closings.of, ev.Inst)
	}
	return list
}

// goesOn passes on the held lines of a scope that is used further.
func (r *Replay) goesOn(id event.ScopeID) {
	if len(r.closings.held) == 0 {
		return
	}
	for _, ev := range r.take(id) {
		r.tell(ev)
	}
}

// allGoOn passes on the held lines of all scopes.
func (r *Replay) allGoOn() {
	for _, id := range slices.Sorted(maps.Keys(r.closings.held)) {
		r.goesOn(id)
	}
}

// mentions passes on the held lines of an instance that a line is about.
func (r *Replay) mentions(inst event.InstID) {
	if id, held := r.closings.of[inst]; held {
		r.goesOn(id)
	}
}

// recheck passes on the held lines of scopes that an event shows to be used further.
func (r *Replay) recheck(ev *event.Event) {
	if len(r.closings.held) == 0 {
		return
	}
	switch ev.Kind {
	case event.Open:
		r.goesOn(ev.InScope)
	case event.Make, event.Give, event.Fail:
		r.goesOn(ev.Scope)
		if ev.Kind == event.Make {
			if home, homed := r.homeOf(ev); homed {
				r.goesOn(home)
			}
		}
	case event.Dispose, event.Forget, event.Close, event.Use:
	case event.Bye:
		return
	default:
		r.allGoOn()
	}
	if ev.Kind == event.Dispose || ev.Kind == event.Forget {
		return
	}
	r.mentions(ev.Inst)
	r.mentions(ev.To)
	r.mentions(ev.User)
	for n := range ev.With {
		r.mentions(ev.With[n].Inst)
	}
}

// let disposes the played instances of a scope and passes on its held lines, the latest made first.
func (r *Replay) let(s *scope, id event.ScopeID, t int64, held []*event.Event) {
	next := len(s.made) - 1
	until := func(order, t int64) { // disposes what was made after that
		for ; next >= 0 && s.made[next].order > order; next-- {
			m := s.made[next]
			if !m.disposes || m.disposed {
				continue
			}
			m.disposed = true
			r.tell(&event.Event{
				Kind: event.Dispose, T: t, Inst: m.id, Scope: id, By: "container",
				Has: event.Of(event.FInst, event.FScope, event.FBy),
			})
		}
	}
	for _, ev := range held {
		until(s.order[ev.Inst], ev.T)
		r.tell(ev)
	}
	until(-1, t)
}
