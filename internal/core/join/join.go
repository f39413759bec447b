// Package join makes one stream of many short ones: of processes, or containers, that live for one request each and write a
// stream of their own. A recording of single requests shows nothing of what is usual; and a thousand streams a minute are
// too many to review.
//
// Equal registrations become one, in a container that stands for the set-up of all. Each short stream's container
// becomes a container inside of that, with a root scope of its own, which closes when the short stream ends. Ids are made
// unique, times are those of the joined stream, and nothing else is changed.
package join

import (
	"fmt"
	"time"

	"keenlantern.example/record/event"
)

// MaxLines bounds a short stream, and MaxStreams how many are joined into one: then it ends, and the next one begins.
const (
	MaxLines   = 20_000
	MaxStreams = 20_000
)

// maxID bounds the ids of a short stream: its ids in the joined one go on from those before it, and numbers in a trace have a bound.
const maxID = 1 << 24

// Label is that of a joined stream.
const Label = "joined"

// Stream is a joined stream that is being written. It is not safe for use by several goroutines.
type Stream struct {
	id     string
	kind   string // what has to be the same of all that are joined
	start  time.Time
	last   int64 // ns
	joined int
	regs   map[string]event.RegID // by their content
	setUps map[event.ContainerID]event.ContainerID
	scope  event.ScopeID // the latest ids
	inst   event.InstID
	reg    event.RegID
	cont   event.ContainerID
}

// New returns a joined stream of this id that has not begun.
func New(id string) *Stream {
	return &Stream{id: id, regs: map[string]event.RegID{}, setUps: map[event.ContainerID]event.ContainerID{}}
}

// Joined returns how many streams have been joined.
func (s *Stream) Joined() int { return s.joined }

// Last returns the latest time in s, in ns since its start.
func (s *Stream) Last() int64 { return s.last }

// Fits reports whether a short stream with this hello belongs into s: it is of the same application as those before it, in the
// same version, and there is room.
func (s *Stream) Fits(hello *event.Event) bool {
	return s.kind == "" || s.joined < MaxStreams && kindOf(hello) == s.kind
}

// Begin sets the application of s, and when it starts: not after any of the short streams that are known by then, which
// come in the order in which they ended. Without it, s starts with the first one.
func (s *Stream) Begin(hello *event.Event, start time.Time) {
	s.kind, s.start = kindOf(hello), start
}

func kindOf(hello *event.Event) string {
	return fmt.Sprintf("%q", []any{hello.App, hello.Environment, hello.Version, hello.Language, hello.Host, hello.Recorder, hello.Sees, hello.Has.Has(event.FSees), hello.Labels})
}

// Put joins a short stream, its hello first, and calls emit for each event of the joined stream. An event is overwritten by
// the next; those in list may be changed. What a recorder would never write (an id of its hello's, a second hello) is left
// out. The error is the reason why the short stream cannot be joined.
func (s *Stream) Put(list []*event.Event, emit func(*event.Event)) error {
	if len(list) == 0 || list[0].Kind != event.Hello {
		return fmt.Errorf("it does not start with a hello")
	}
	if len(list) > MaxLines {
		return fmt.Errorf("it has more than %d lines", MaxLines)
	}
	for _, ev := range list {
		if max(uint64(ev.Scope), uint64(ev.InScope), uint64(ev.Owner), uint64(ev.Inst), uint64(ev.To), uint64(ev.User), uint64(ev.Reg), uint64(ev.Via), uint64(ev.For), uint64(ev.Container)) > maxID {
			return fmt.Errorf("it has ids above %d: one request counts from 1", maxID)
		}
		for n := range ev.With {
			if uint64(ev.With[n].Inst) > maxID {
				return fmt.Errorf("it has ids above %d: one request counts from 1", maxID)
			}
		}
	}
	hello := list[0]
	start, err := time.Parse(time.RFC3339, hello.Start)
	if err != nil {
		return fmt.Errorf("start of the stream: %w", err)
	}
	if s.kind == "" {
		s.Begin(hello, start)
	}
	if s.joined == 0 {
		first := hello.Clone()
		first.Stream, first.T, first.Start = s.id, 0, s.start.UTC().Format("2006-01-02T15:04:05.000000000Z07:00")
		first.Labels = map[string]string{Label: "streams of one request each"}
		for name, value := range hello.Labels {
			first.Labels[name] = value
		}
		first.PID = 0
		first.Has.Drop(event.FPID)
		first.Has.Set(event.FLabels)
		emit(first)
	}
	s.joined++
	one := &short{Stream: s, by: start.Sub(s.start).Nanoseconds(), emit: emit, regs: map[event.RegID]*event.Event{}, as: map[event.RegID]event.RegID{}, conts: map[event.ContainerID]cont{}}
	one.scopes, one.insts = s.scope, s.inst
	first := &event.Event{Kind: event.Container, T: hello.T, Container: 1, Has: event.Of(event.FT, event.FContainer)}
	for _, ev := range list[1:] {
		if ev.Kind == event.Container && ev.Container == 1 {
			first = ev
			break
		}
	}
	one.container(1, first)
	// A registration may name a later one.
	for _, ev := range list[1:] {
		if ev.Kind == event.Register {
			one.regs[ev.Reg] = ev
		}
	}
	for _, ev := range list[1:] {
		one.put(ev)
	}
	one.close()
	return nil
}

// End ends the joined stream, because of why.
func (s *Stream) End(why string, emit func(*event.Event)) {
	if s.joined == 0 {
		return
	}
	bye := &event.Event{Kind: event.Bye, T: s.last, Count: 1, Weight: 1, Has: event.Of(event.FT)}
	if why != "" {
		bye.Why = why
		bye.Has.Set(event.FWhy)
	}
	emit(bye)
}

// short is one stream that is being joined.
type short struct {
	*Stream
	by     int64 // ns that its times are later by
	end    int64 // its latest time
	emit   func(*event.Event)
	regs   map[event.RegID]*event.Event
	as     map[event.RegID]event.RegID
	conts  map[event.ContainerID]cont
	scopes event.ScopeID // its ids begin behind these
	insts  event.InstID
	order  []event.ContainerID
}

// cont is a container of the short stream: that of its instances, and the one that stands for its set-up.
type cont struct {
	own, setUp event.ContainerID
	root       event.ScopeID
}

// say emits an event at its time in the joined stream.
func (o *short) say(ev *event.Event) {
	ev.T += o.by
	o.end = max(o.end, ev.T)
	o.last = max(o.last, ev.T)
	o.emit(ev)
}

// container begins a container of the short stream.
func (o *short) container(id event.ContainerID, ev *event.Event) cont {
	if c, known := o.conts[id]; known {
		return c
	}
	setUp, known := o.setUps[id]
	if !known {
		o.cont++
		setUp = o.cont
		o.setUps[id] = setUp
		if setUp != 1 { // the first one needs no line
			of := *ev
			of.Container, of.InCont, of.Scope = setUp, 0, 0
			of.Has.Drop(event.FIn, event.FScope)
			of.T = max(0, of.T)
			o.say(&of)
		}
	}
	o.cont++
	c := cont{own: o.cont, setUp: setUp}
	of := *ev
	of.Container, of.InCont, of.Count, of.Weight = c.own, setUp, 1, 1
	of.Has.Set(event.FIn)
	switch {
	case ev.Has.Has(event.FScope):
		c.root = o.scopeOf(ev.Scope)
	case id == 1:
		o.scope++
		c.root = o.scope
		o.scopes = o.scope // its scope 0
	default:
		c.root = o.conts[1].root
	}
	of.Scope = c.root
	of.Has.Set(event.FScope)
	o.conts[id] = c
	o.order = append(o.order, id)
	o.say(&of)
	return c
}

func (o *short) scopeOf(id event.ScopeID) event.ScopeID {
	if id == 0 {
		return o.conts[1].root
	}
	id += o.scopes
	o.scope = max(o.scope, id)
	return id
}

func (o *short) instOf(id event.InstID) event.InstID {
	if id == 0 {
		return 0
	}
	id += o.insts
	o.inst = max(o.inst, id)
	return id
}

// contOf returns a container that a line names; the first where none does.
func (o *short) contOf(ev *event.Event) cont {
	id := event.ContainerID(1)
	if ev.Has.Has(event.FContainer) {
		id = ev.Container
	}
	if c, known := o.conts[id]; known {
		return c
	}
	return o.conts[1]
}

// maxDepth bounds how far a registration's layers, aliases and proxies are followed.
const maxDepth = 32

// regOf returns the joined registration that one of the short stream has become.
func (o *short) regOf(id event.RegID, depth int) event.RegID {
	if as, known := o.as[id]; known || id == 0 {
		return as
	}
	ev := o.regs[id]
	if ev == nil || depth == maxDepth { // only mentioned: no line describes it
		o.reg++
		o.as[id] = o.reg
		return o.reg
	}
	o.as[id] = 0 // of a ring, the last link is left out
	of := *ev
	of.T, of.Reg, of.Line = 0, 0, 0
	c := o.contOf(ev)
	of.Container = c.setUp
	of.Has.Set(event.FContainer)
	if of.Has.Has(event.FIn) && of.InCont != 0 {
		of.InCont = o.conts[of.InCont].setUp
	}
	of.Wraps, of.Alias, of.Proxy = o.regOf(of.Wraps, depth+1), o.regOf(of.Alias, depth+1), o.regOf(of.Proxy, depth+1)
	for field, as := range map[event.Field]event.RegID{event.FWraps: of.Wraps, event.FAlias: of.Alias, event.FProxy: of.Proxy} {
		if as == 0 {
			of.Has.Drop(field)
		}
	}
	key := string(event.AppendLine(nil, &of))
	as, known := o.Stream.regs[key]
	if !known {
		o.reg++
		as = o.reg
		o.Stream.regs[key] = as
		of.Reg, of.T = as, ev.T
		o.as[id] = as
		o.say(&of)
	}
	o.as[id] = as
	return as
}

func (o *short) put(ev *event.Event) {
	switch ev.Kind {
	case event.Hello:
		return
	case event.Bye:
		o.end = max(o.end, ev.T+o.by)
		return
	case event.Register:
		o.regOf(ev.Reg, 0)
		return
	case event.Container:
		o.container(ev.Container, ev)
		return
	}
	// Most makes name no container: they are built by that of their registration.
	if ev.Kind == event.Make {
		c := o.contOf(ev)
		if reg := o.regs[ev.Reg]; reg != nil && !ev.Has.Has(event.FContainer) {
			c = o.contOf(reg)
		}
		ev.Container = c.own
		ev.Has.Set(event.FContainer)
	} else if ev.Has.Has(event.FContainer) {
		ev.Container = o.contOf(ev).own
	}
	if ev.Kind == event.Open || ev.Has.Has(event.FScope) {
		ev.Scope = o.scopeOf(ev.Scope)
	}
	if ev.Kind == event.Open || ev.Kind == event.Join {
		ev.InScope = o.scopeOf(ev.InScope)
		ev.Has.Set(event.FIn)
	}
	if ev.Has.Has(event.FOwner) && !ev.OwnerNull {
		ev.Owner = o.scopeOf(ev.Owner)
	}
	ev.Inst, ev.To, ev.User = o.instOf(ev.Inst), o.instOf(ev.To), o.instOf(ev.User)
	ev.Reg, ev.Via, ev.For = o.regOf(ev.Reg, 0), o.regOf(ev.Via, 0), o.regOf(ev.For, 0)
	for n := range ev.With {
		ev.With[n].Inst, ev.With[n].Via = o.instOf(ev.With[n].Inst), o.regOf(ev.With[n].Via, 0)
	}
	o.say(ev)
}

// close ends the short stream's containers: what lives as long as they do has ended.
func (o *short) close() {
	closed := map[event.ScopeID]bool{}
	for n := len(o.order) - 1; n >= 0; n-- {
		root := o.conts[o.order[n]].root
		if closed[root] {
			continue
		}
		closed[root] = true
		o.emit(&event.Event{Kind: event.Close, T: o.end, Scope: root, Count: 1, Weight: 1, Has: event.Of(event.FT, event.FScope)})
	}
	o.last = max(o.last, o.end)
}
