package order

import (
	"slices"
	"sort"

	"keenlantern.example/record/event"
)

// Window is for how many lines a line is held, as the trace format asks of a reader.
const Window = 65_536

// What is held is bounded whatever the window: past it, the oldest is given up early. The bytes are enough for a window
// full of lines with short texts.
const (
	maxHeld      = Window
	maxHeldBytes = 80 << 20
)

// Order holds lines back. It is not safe for use by several goroutines.
type Order struct {
	gate    gate
	known   [3]seen
	waiting map[event.Ref][]*held
	queue   []*held // by age; released ones stay until they reach the front
	held    int
	bytes   int // of what is held
	lines   int64
	refs    []event.Ref

	unresolved int64
}

type held struct {
	ev       *event.Event
	size     int
	since    int64
	released bool
}

// New returns an Order that knows the first container and its root scope, which no line has to define.
func New() *Order {
	o := &Order{waiting: map[event.Ref][]*held{}}
	o.known[event.ScopeRef].add(0)
	o.known[event.ContainerRef].add(1)
	return o
}

// Held returns how many lines are waiting, Unresolved how many were given up.
func (o *Order) Held() int64       { return int64(o.held + len(o.gate.queue)) }
func (o *Order) Unresolved() int64 { return o.unresolved }

// Put takes the next event and calls emit for every event that may now be used, in order. The event is copied if it
// has to wait, and given up ones are dropped and counted.
func (o *Order) Put(ev *event.Event, emit func(*event.Event)) {
	if o.gate.open(ev) {
		o.put(ev, emit)
		return
	}
	o.gate.put(ev, func(ev *event.Event) { o.put(ev, emit) })
}

// Flush calls emit for the events that still wait for a registration, at the end of a stream.
func (o *Order) Flush(emit func(*event.Event)) {
	o.gate.flush(func(ev *event.Event) { o.put(ev, emit) })
}

// put takes the next event that waits for no registration.
func (o *Order) put(ev *event.Event, emit func(*event.Event)) {
	o.lines++
	if o.held > 0 {
		o.expire()
	}
	if missing, ok := o.missing(ev); ok {
		o.hold(ev.Clone(), missing)
		return
	}
	if o.held == 0 { // nothing waits for it
		emit(ev)
		o.define(ev)
		return
	}
	o.release(ev, emit)
}

// GiveUp drops all that is still waiting, at the end of a stream, and counts it.
func (o *Order) GiveUp() {
	o.unresolved += int64(o.held)
	o.held, o.bytes = 0, 0
	o.queue = nil
	clear(o.waiting)
}

// release emits ev and then what was waiting for what it defines, breadth first.
func (o *Order) release(ev *event.Event, emit func(*event.Event)) {
	emit(ev)
	defined := o.define(ev)
	for len(defined) > 0 && o.held > 0 {
		ref := defined[0]
		defined = defined[1:]
		list := o.waiting[ref]
		if list == nil {
			continue
		}
		delete(o.waiting, ref)
		for _, h := range list {
			if h.released {
				continue
			}
			if missing, ok := o.missing(h.ev); ok {
				o.waiting[missing] = append(o.waiting[missing], h)
				continue
			}
			h.released = true
			o.held--
			o.bytes -= h.size
			emit(h.ev)
			defined = append(defined, o.define(h.ev)...)
		}
	}
}

// define notes what ev brings into being.
func (o *Order) define(ev *event.Event) []event.Ref {
	ref, ok := ev.Defines()
	if !ok {
		return nil
	}
	fresh := o.known[ref.Kind].add(ref.ID)
	// A container brings its root scope, which needs no open.
	if ev.Kind == event.Container && ev.Has.Has(event.FScope) {
		root := event.Ref{Kind: event.ScopeRef, ID: uint64(ev.Scope)}
		o.known[event.ScopeRef].add(root.ID)
		return []event.Ref{ref, root}
	}
	if !fresh || o.held == 0 {
		return nil
	}
	return []event.Ref{ref}
}

func (o *Order) missing(ev *event.Event) (event.Ref, bool) {
	o.refs = ev.About(o.refs[:0])
	for _, ref := range o.refs {
		if !o.known[ref.Kind].has(ref.ID) {
			return ref, true
		}
	}
	return event.Ref{}, false
}

func (o *Order) hold(ev *event.Event, missing event.Ref) {
	h := &held{ev: ev, size: ev.Held(), since: o.lines}
	o.waiting[missing] = append(o.waiting[missing], h)
	o.queue = append(o.queue, h)
	o.held++
	if o.bytes += h.size; o.bytes > maxHeldBytes {
		o.expire()
	}
}

// expire gives up what has waited for longer than the window, or is over the bound.
func (o *Order) expire() {
	for len(o.queue) > 0 {
		h := o.queue[0]
		if !h.released {
			if o.lines-h.since <= Window && o.held <= maxHeld && o.bytes <= maxHeldBytes {
				return
			}
			h.released = true
			o.held--
			o.bytes -= h.size
			o.unresolved++
			o.forget(h)
		}
		o.queue[0] = nil
		o.queue = o.queue[1:]
	}
}

// forget takes a given-up line out of the list it stands in, so that ids that never come do not pile up.
func (o *Order) forget(h *held) {
	missing, ok := o.missing(h.ev)
	if !ok {
		return
	}
	list := o.waiting[missing]
	for len(list) > 0 && list[0].released {
		list = list[1:]
	}
	if len(list) == 0 {
		delete(o.waiting, missing)
		return
	}
	o.waiting[missing] = list
}

// seen is a set of ids that recorders count up: a few stretches without holes, however many ids there were. One that
// was switched on late counts on from where it was, so that a set need not begin at 1.
type seen struct {
	list []stretch // in order, none touching the next
}

type stretch struct{ first, last uint64 }

// maxStretches bounds them: past it, the smallest holes are taken to be ids that never come. A line about such an id is
// then released and found to be empty by its user.
const maxStretches = Window

// at returns the place of the first stretch that ends at id or after it.
func (s *seen) at(id uint64) int {
	n := len(s.list)
	// Nearly all ids are new ones, or in the latest stretch.
	if n == 0 || s.list[n-1].last < id {
		return n
	}
	if s.recent(id) {
		return n - 1
	}
	return sort.Search(n, func(k int) bool { return s.list[k].last >= id })
}

func (s *seen) has(id uint64) bool { return s.recent(id) || s.among(id) }

// recent reports whether id is in the last stretch, as nearly all are.
func (s *seen) recent(id uint64) bool {
	if len(s.list) == 0 {
		return false
	}
	last := s.list[len(s.list)-1]
	return last.first <= id && id <= last.last
}

func (s *seen) among(id uint64) bool {
	k := s.at(id)
	return k < len(s.list) && s.list[k].first <= id
}

// add notes id and reports whether it is new.
func (s *seen) add(id uint64) bool {
	k := s.at(id)
	if k < len(s.list) && s.list[k].first <= id {
		return false
	}
	before, after := k > 0 && s.list[k-1].last+1 == id, k < len(s.list) && s.list[k].first == id+1
	switch {
	case before && after:
		s.list[k-1].last = s.list[k].last
		s.list = slices.Delete(s.list, k, k+1)
	case before:
		s.list[k-1].last = id
	case after:
		s.list[k].first = id
	default:
		s.list = slices.Insert(s.list, k, stretch{id, id})
		if len(s.list) > maxStretches {
			s.close()
		}
	}
	return true
}

// close closes the smaller half of the holes, so that the work comes to little for each id even where ids are sparse.
func (s *seen) close() {
	holes := make([]uint64, 0, len(s.list)-1)
	for k := range s.list[1:] {
		holes = append(holes, s.list[k+1].first-s.list[k].last)
	}
	slices.Sort(holes)
	small := holes[len(holes)/2]
	kept := s.list[:1]
	for _, next := range s.list[1:] {
		if last := &kept[len(kept)-1]; next.first-last.last <= small {
			last.last = next.last
		} else {
			kept = append(kept, next)
		}
	}
	s.list = kept
}
