package ledger

import (
	"math"

	"keenlantern.example/record/event"
)

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
	first, tally, early, tags := r.First, r.Tally, r.early, r.tags
	if !r.Known {
		first = ev.T
	}
	*r = Registration{
		ID: ev.Reg, Known: true, First: first, Tally: tally, tags: tags, T: ev.T, Line: ev.Line, Container: w.first,
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

// Registration returns the registration with this id, nil if no line has mentioned it.
func (w *World) Registration(id event.RegID) *Registration { return w.regs[id] }
