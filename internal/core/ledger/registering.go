package ledger

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"unsafe"

	"keenlantern.example/record/event"
)

// The bounds of what one stream registers. A line over them is refused.
const (
	MaxRegistrations = 250_000
	MaxRegBytes      = 64 << 20 // of their texts
	maxContainers    = 100_000
)

// firstContainer is the id that recorders begin with.
const firstContainer event.ContainerID = 1

// containerByID returns a container that a line has announced, or the first one, which none need announce; nil for others.
func (w *World) containerByID(id event.ContainerID) *Container {
	if id == firstContainer {
		return w.first
	}
	return w.conts[id]
}

func (w *World) container(ev *event.Event) error {
	c := w.conts[ev.Container]
	fresh := c == nil
	var parent *Container
	if ev.Has.Has(event.FIn) {
		if ev.InCont == ev.Container {
			return fmt.Errorf("container %d cannot be inside itself", ev.Container)
		}
		parent = w.containerByID(ev.InCont)
	}
	switch {
	case !fresh:
	case ev.Container == firstContainer:
		c = w.first
	case len(w.Containers) == maxContainers:
		return fmt.Errorf("a stream has at most %d containers", maxContainers)
	default:
		c = newContainer(w.scopes.get(0))
	}
	if ev.Has.Has(event.FIn) {
		if err := c.place(parent); err != nil {
			return err
		}
	}
	if fresh {
		c.ID = ev.Container
		w.conts[ev.Container] = c
		w.Containers = append(w.Containers, c)
	}
	w.SetUp++
	switch {
	case ev.Has.Has(event.FScope):
		c.Root = w.rootFor(ev, c)
	case c.Parent != nil:
		c.Root = c.Parent.Root
	}
	c.Name, c.At, c.Per = ev.Name, ev.At, ev.Per
	if ev.Duplicates != "" {
		c.Duplicates = ev.Duplicates
	}
	if ev.Cycles != "" {
		c.Cycles = ev.Cycles
	}
	return nil
}

// rootFor returns the scope that a container line names as the container's root.
func (w *World) rootFor(ev *event.Event, c *Container) *Scope {
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

// Registrations returns all that have been mentioned, in the order of the times at which they were first registered (of
// their ids where these are equal), so that a line which comes late, or is mentioned before, changes nothing. It is
// read-only, and good until the next event.
func (w *World) Registrations() []*Registration {
	if w.unsorted {
		slices.SortFunc(w.regList, ByOrder)
		w.unsorted = false
	}
	w.Step(len(w.regList)) // the caller goes through them
	return w.regList
}

// ByOrder compares two registrations by when they were first registered.
func ByOrder(a, b *Registration) int {
	return cmp.Or(cmp.Compare(a.First, b.First), cmp.Compare(a.ID, b.ID))
}

// registration returns the one with this id, to be known later if need be; nil where there are too many.
func (w *World) registration(id event.RegID) *Registration {
	r := w.regs.get(uint64(id))
	if r == nil && len(w.regList) < MaxRegistrations {
		r = &Registration{ID: id, Container: w.first, First: math.MaxInt64, Sees: w.Sees}
		w.regs.put(uint64(id), r)
		w.regList = append(w.regList, r)
		w.unsorted = true
	}
	return r
}

// textOf returns how many bytes of text a register line brings.
func textOf(ev *event.Event) int {
	n := len(ev.Service) + len(ev.Impl) + len(ev.Lifetime) + len(ev.Declared) + len(ev.Key) + len(ev.Disposer) + len(ev.At) + len(ev.Module) + len(ev.InModule) + len(ev.InKind) + len(ev.Mechanism) + len(ev.Signature)
	for k := range ev.Also {
		n += int(unsafe.Sizeof(ev.Also[k])) + len(ev.Also[k].Service) + len(ev.Also[k].Key)
	}
	for k := range ev.Needs {
		d := &ev.Needs[k]
		n += int(unsafe.Sizeof(*d)) + len(d.Site) + len(d.Service) + len(d.Key) + len(d.How)
	}
	return n
}

// numberOf returns the number of a service, from 1.
func (w *World) numberOf(service string) int32 {
	n := w.services[service]
	if n == 0 {
		n = int32(len(w.services)) + 1
		w.services[service] = n
	}
	return n
}

func (w *World) register(ev *event.Event) error {
	r := w.registration(ev.Reg)
	if r == nil {
		return fmt.Errorf("a stream has at most %d registrations", MaxRegistrations)
	}
	text := textOf(ev)
	if w.regBytes+text-r.text > MaxRegBytes {
		return fmt.Errorf("the texts of a stream's registrations take at most %d MiB", MaxRegBytes>>20)
	}
	w.regBytes += text - r.text
	has := func(f event.Field) bool { return ev.Has.Has(f) }
	before := *r
	first := r.First
	if !r.Known {
		first = ev.T
	}
	*r = Registration{
		ID: ev.Reg, Known: true, First: first, class: classOf(Lifetime(ev.Lifetime)), named: w.numberOf(ev.Service), Tally: before.Tally, tags: before.tags, said: before.said, text: text,
		T: ev.T, Line: ev.Line, Container: w.first,
		Service: ev.Service, Impl: ev.Impl, Lifetime: Lifetime(ev.Lifetime), Declared: Lifetime(ev.Declared),
		Key: ev.Key, HasKey: has(event.FKey), Primary: ev.Primary, Local: ev.Local, Internal: ev.Internal,
		Disposable: ev.Disposable, Disposer: ev.Disposer, Shareable: ev.Shareable, SharingKnown: has(event.FShareable),
		At: ev.At, Module: ev.Module, Sees: w.Sees,
		Template: templateOf(ev.Template), Pooled: ev.Pooled, Mechanism: ev.Mechanism, Signature: ev.Signature,
	}
	if len(ev.Also) > 0 {
		r.Also = append([]event.Also(nil), ev.Also...)
	}
	if len(ev.Needs) > 0 {
		r.Needs = append([]event.Need(nil), ev.Needs...)
		r.built, r.partly = builtWith(r.Needs)
	}
	if has(event.FContainer) {
		if c := w.containerByID(ev.Container); c != nil {
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
	if has(event.FFormOf) && ev.FormOf != ev.Reg {
		r.FormOf = w.registration(ev.FormOf)
	}
	if has(event.FIn) {
		r.In = &Part{Module: ev.InModule, ScopeKind: ev.InKind}
		if ev.InCont != 0 {
			r.In = &Part{Container: w.containerByID(ev.InCont)}
		}
	}
	if has(event.FSees) {
		r.Sees = sightOf(ev.Sees, true)
	}
	w.unsorted = w.unsorted || !before.Known
	w.SetUp++
	w.tell(Change{What: Registered, Event: ev, Reg: r})
	w.Step(len(before.early))
	for _, i := range before.early {
		w.settle(i)
	}
	return nil
}

// Registration returns the registration with this id, nil if no line has mentioned it.
func (w *World) Registration(id event.RegID) *Registration { return w.regs.get(uint64(id)) }
