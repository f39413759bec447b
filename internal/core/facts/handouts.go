package facts

import (
	"slices"

	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// Handout is who was given what, having asked for what: the same of the same kind is one, however often it happened. Many
// rules follow from these alone, once all registrations are known.
type Handout struct {
	kind
	N           int64
	Factory     bool  // what was given was made by a factory
	First, Last int64 // ns
	Examples    []Example
}

// kind is what makes two hand-outs the same.
type kind struct {
	Consumer *ledger.Registration // nil: an entry point, an unregistered instance, or unknown
	Direct   string               // the consumer's implementation, where it has no registration
	Entry    string
	Given    *ledger.Registration // nil: made past the container
	made     string               // its implementation as made; "" if only the registration has one
	asked    ledger.Asked         // as in the line; the zero value if it has none
	said     bool
	slot     int // the position in with, where what was asked for has to be looked up in the needs; -1 otherwise
	all      bool
	Passing  bool // it was only read during construction
	Via      *ledger.Registration
	how      string // of a give; "" of what a make lists
	site     string
	// Where the consumer stands, for layers that apply to a part of the application only.
	From      *ledger.Container
	Module    string
	ScopeKind string
	inside    *ledger.Registration // the layer in whose construction it was handed to an unknown receiver
}

// Example is one time that it happened.
type Example struct {
	Insts []*ledger.Instance // what was given, then to whom, if that is known
	Scope *ledger.Scope
	Line  int64
	T     int64 // ns
}

// maxExamples is how many are kept of each.
const maxExamples = 5

// Handouts adds them up. It is bounded by what is registered, and by maxHandoutKinds where names never repeat.
type Handouts struct {
	world *ledger.World
	seen  map[kind]*Handout
	list  []*Handout

	// loose are the latest hand-outs to unknown receivers, by scope: they may turn out to have been part of a construction.
	loose map[*ledger.Scope][]looseHandout
}

type looseHandout struct {
	of kind
	at once
}

// once is one time that something was handed out.
type once struct {
	given, to *ledger.Instance
	scope     *ledger.Scope
	line, t   int64
}

func (o *once) example() Example {
	x := Example{Insts: []*ledger.Instance{o.given.Hold()}, Scope: o.scope, Line: o.line, T: o.t}
	if o.to != nil {
		x.Insts = append(x.Insts, o.to.Hold())
	}
	return x
}

const (
	maxHandoutKinds = 50_000
	maxLoose        = 64   // of one scope
	maxLooseScopes  = 4096 // that have any
)

func newHandouts(w *ledger.World) *Handouts {
	return &Handouts{world: w, seen: map[kind]*Handout{}, loose: map[*ledger.Scope][]looseHandout{}}
}

// All returns all that were seen so far, in the order in which each was first seen. The list is read-only.
func (h *Handouts) All() []*Handout {
	h.settle()
	return h.list
}

// settle counts hand-outs to unknown receivers that are not part of a construction so far.
func (h *Handouts) settle() {
	for s := range h.loose {
		h.flush(s)
	}
}

func (h *Handouts) flush(s *ledger.Scope) {
	if len(h.loose) == 0 {
		return
	}
	for _, l := range h.loose[s] {
		h.count(&l.of, &l.at)
		l.at.given.Let()
	}
	delete(h.loose, s)
}

// see takes a change.
func (h *Handouts) see(c *ledger.Change) {
	switch c.What {
	case ledger.Bound:
		h.bound(c)
	case ledger.Given:
		h.given(c)
	case ledger.Made:
		h.made(c)
	case ledger.ScopeClosed:
		h.flush(c.Scope)
	}
}

func (h *Handouts) bound(c *ledger.Change) {
	if c.Edge == nil || h.again(c) {
		return
	}
	e := c.Edge
	k := kind{Given: c.Inst.Reg, made: c.Inst.MadeImpl(), slot: int(e.Slot), all: e.All}
	if q := e.Request; q != nil {
		k.asked, k.said, k.Via = q.Asked, q.Said, q.Via
	}
	if e.Slot < 0 && c.Event.Kind == event.Give {
		h.asGiven(&k, c.Event)
	} else if e.Slot < 0 {
		return // shown by a use: its hand-out was counted when it came
	}
	h.add(k, c.Holder, c.Inst, c.Scope, c.Event)
}

// again counts a keeping that is as one of the latest in the same place of the same consumer was: nearly all are.
func (h *Handouts) again(c *ledger.Change) bool {
	e, by := c.Edge, c.Holder
	if e.Request != nil || e.Slot < 0 || by.Reg == nil {
		return false
	}
	mine, _ := by.Reg.Tag(handoutsTag).(*ofConsumer)
	if mine == nil || int(e.Slot) >= len(mine.latest) {
		return false
	}
	scopeKind := ""
	if c.Scope != nil {
		scopeKind = c.Scope.Kind
	}
	list := &mine.latest[e.Slot]
	for n := range list {
		at := &list[n]
		if at.given != c.Inst.Reg || at.one == nil || at.from != by.Container || at.all != e.All ||
			at.made != c.Inst.MadeImpl() || at.module != by.Module || at.scopeKind != scopeKind {
			continue
		}
		one := at.one
		one.N++
		one.Last = max(one.Last, c.Event.T)
		one.Factory = one.Factory || c.Inst.By == "factory"
		return true
	}
	return false
}

// plain reports whether the request is unknown, so that a hand-out is known by what again looks at.
func (k *kind) plain() bool {
	return k.Consumer != nil && k.slot >= 0 && !k.said && k.Via == nil && !k.Passing && k.how == "" && k.site == "" && k.Entry == ""
}

// asGiven takes what a give line has as requested.
func (h *Handouts) asGiven(k *kind, ev *event.Event) {
	k.said = ev.Has.Has(event.FService) || ev.Has.Has(event.FKey)
	k.asked = ledger.Asked{Service: ev.Service, Key: ev.Key, HasKey: ev.Has.Has(event.FKey)}
	k.all, k.how, k.site, k.Module = ev.All, ev.How, ev.Site, ev.Module
	if ev.Has.Has(event.FVia) {
		k.Via = h.world.Registration(ev.Via)
	}
}

func (h *Handouts) given(c *ledger.Change) {
	if event.Injected(c.Event.How) && c.Holder != nil {
		return // it comes as Bound
	}
	k := kind{Given: c.Inst.Reg, made: c.Inst.MadeImpl(), slot: -1, Entry: c.Event.Entry}
	if c.Event.Kind == event.Make { // it was read during the holder's construction
		h.passing(&k, c)
		return
	}
	h.asGiven(&k, c.Event)
	if c.Holder == nil && c.Event.Entry == "" && c.Scope != nil && !c.Scope.Ended {
		if waiting := h.loose[c.Scope]; len(waiting) < maxLoose && (waiting != nil || len(h.loose) < maxLooseScopes) {
			k.ScopeKind = c.Scope.Kind
			h.loose[c.Scope] = append(waiting, looseHandout{k, once{given: c.Inst.Hold(), scope: c.Scope, line: c.Event.Line, t: c.Event.T}})
			return
		}
	}
	h.add(k, c.Holder, c.Inst, c.Scope, c.Event)
}

func (h *Handouts) passing(k *kind, c *ledger.Change) {
	for n := range c.Event.With {
		w := &c.Event.With[n]
		if !w.Passing || w.Inst != c.Inst.ID {
			continue
		}
		k.slot, k.all, k.Passing = w.Slot, w.All, true
		k.said = w.Service != "" || w.HasKey
		k.asked = ledger.Asked{Service: w.Service, Key: w.Key, HasKey: w.HasKey}
		if w.Via != 0 {
			k.Via = h.world.Registration(w.Via)
		}
		h.add(*k, c.Holder, c.Inst, c.Scope, c.Event)
		return
	}
}

// made gives a construction what was handed to an unknown receiver while it ran: a factory or a locator was called in it.
func (h *Handouts) made(c *ledger.Change) {
	if len(h.loose) == 0 {
		return
	}
	waiting := h.loose[c.Scope]
	if len(waiting) == 0 || c.Inst.Reg == nil {
		return
	}
	from := c.Inst.Made - c.Inst.NS
	left := waiting[:0]
	for _, l := range waiting {
		if c.Inst.NS > 0 && l.at.t >= from && l.at.t <= c.Inst.Made && l.at.given != c.Inst {
			l.of.inside = c.Inst.Reg
			h.count(&l.of, &l.at)
			l.at.given.Let()
			continue
		}
		left = append(left, l)
	}
	h.loose[c.Scope] = left
}

func (h *Handouts) add(k kind, to, given *ledger.Instance, s *ledger.Scope, ev *event.Event) {
	at := once{given: given, to: to, scope: s, line: ev.Line, t: ev.T}
	if s != nil {
		k.ScopeKind = s.Kind
	}
	if to != nil {
		k.Consumer, k.Entry, k.From = to.Reg, "", to.Container
		if to.Reg == nil {
			k.Direct = to.Impl()
		}
		if k.Module == "" {
			k.Module = to.Module
		}
	}
	h.count(&k, &at)
}

func (h *Handouts) count(k *kind, at *once) {
	one := h.find(k)
	if one == nil {
		if len(h.list) == maxHandoutKinds {
			return
		}
		one = &Handout{kind: *k, First: at.t, Last: at.t}
		if k.Consumer != nil {
			mine := ofReg(k.Consumer)
			mine.list = append(mine.list, one)
		}
		h.seen[*k] = one
		h.list = append(h.list, one)
	}
	if k.plain() && k.slot < maxLatest {
		mine := k.Consumer.Tag(handoutsTag).(*ofConsumer)
		for len(mine.latest) <= k.slot {
			mine.latest = append(mine.latest, [4]latest{})
		}
		// One that still takes examples is counted in full.
		if at := &mine.latest[k.slot]; len(one.Examples) == maxExamples && !slices.ContainsFunc(at[:], func(l latest) bool { return l.one == one }) {
			copy(at[1:], at[:])
			at[0] = latest{one, one.Given, one.From, one.made, one.Module, one.ScopeKind, one.all}
		}
	}
	if k.Consumer == nil && k.Given != nil {
		of := ofReg(k.Given)
		if !slices.Contains(of.loose[:], one) {
			copy(of.loose[1:], of.loose[:])
			of.loose[0] = one
		}
	}
	one.N++
	one.Last = max(one.Last, at.t)
	one.Factory = one.Factory || at.given.By == "factory"
	if len(one.Examples) < maxExamples {
		one.Examples = append(one.Examples, at.example())
	}
}

// ofConsumer are the hand-outs to one registration.
type ofConsumer struct {
	list   []*Handout
	latest [][4]latest // by the place that was filled; only plain ones
	loose  [2]*Handout // the latest of its own instances to an unregistered receiver: an entry point's
}

func ofReg(r *ledger.Registration) *ofConsumer {
	mine, _ := r.Tag(handoutsTag).(*ofConsumer)
	if mine == nil {
		mine = &ofConsumer{}
		r.SetTag(handoutsTag, mine)
	}
	return mine
}

// latest is a hand-out with what it is known by, side by side.
type latest struct {
	one                     *Handout
	given                   *ledger.Registration
	from                    *ledger.Container
	made, module, scopeKind string
	all                     bool
}

// maxLatest bounds the places of one consumer of which the latest hand-out is kept.
const maxLatest = 64

var handoutsTag = ledger.NewRegTag()

// Hung returns a value of each type that facts hang on things.
func Hung() []any { return []any{&ofConsumer{}} }

// find looks among the consumer's own first: they are few, and comparing them is faster than hashing so large a key.
func (h *Handouts) find(k *kind) *Handout {
	if k.Consumer != nil {
		mine, _ := k.Consumer.Tag(handoutsTag).(*ofConsumer)
		if mine == nil {
			return nil
		}
		if len(mine.list) <= 8 {
			for _, one := range mine.list {
				if one.kind == *k {
					return one
				}
			}
			return nil
		}
	} else if k.Given != nil {
		if of, _ := k.Given.Tag(handoutsTag).(*ofConsumer); of != nil {
			for _, one := range of.loose {
				if one != nil && one.kind == *k {
					return one
				}
			}
		}
	}
	return h.seen[*k]
}

// Asks returns what was asked for: from the line, else from the consumer's needs, else as registered.
func (s *Handout) Asks() ledger.Asked {
	a := s.asked
	if s.said {
		if a.Service == "" && s.Given != nil {
			a.Service = s.Given.Service
		}
		return a
	}
	if need := s.Need(); need != nil {
		return ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey}
	}
	if s.Via != nil {
		return s.Via.Asked()
	}
	if s.Given != nil {
		return s.Given.Asked()
	}
	return a
}

// Said reports whether a line or a need has what was requested.
func (s *Handout) Said() bool { return s.said || s.Need() != nil }

// Need returns the consumer's need that was filled, nil where none was or that is not known.
func (s *Handout) Need() *event.Need {
	if s.slot < 0 || s.Consumer == nil {
		return nil
	}
	return s.Consumer.AskedAt(s.slot)
}

// ForAll reports whether all of a service were asked for.
func (s *Handout) ForAll() bool {
	need := s.Need()
	return s.all || need != nil && need.All
}

// Impl returns the implementation of what was given: as made, else as registered.
func (s *Handout) Impl() string {
	if s.made == "" && s.Given != nil {
		return s.Given.Impl
	}
	return s.made
}

// MadeImpl returns the implementation of what was given as in its make, "" where it did not.
func (s *Handout) MadeImpl() string { return s.made }

// Site and How are where and how it was filled in, from lines or needs.
func (s *Handout) Site() string {
	if need := s.Need(); need != nil {
		return need.Site
	}
	return s.site
}

// How returns the way in which it was handed out.
func (s *Handout) How() string {
	if need := s.Need(); need != nil && need.How != "" {
		return need.How
	}
	switch {
	case s.how != "":
		return s.how
	case s.slot >= 0:
		return "constructor"
	case s.Entry != "":
		return "entry"
	}
	return ""
}

// Known reports whether both ends can be judged.
func (s *Handout) Known() bool {
	return s.Given != nil && s.Given.Known && (s.Consumer == nil || s.Consumer.Known)
}

// Lives returns the scope in which the consumer lives, or that of the work that asked, where that is not known: where a consumer was
// asked for does not matter.
func (s *Handout) Lives() *ledger.Scope {
	x := &s.Examples[0]
	if len(x.Insts) > 1 && x.Insts[1].Home() != nil {
		return x.Insts[1].Home()
	}
	return x.Scope
}

// InModule reports whether the consumer belongs to a module: by its line, else as registered.
func (s *Handout) InModule(module string) bool {
	if by := s.By(); s.Module == "" && by != nil {
		return by.Module == module
	}
	return s.Module == module
}

// By returns who received it: the consumer, or the layer in whose construction it was handed to an unknown receiver; nil
// otherwise.
func (s *Handout) By() *ledger.Registration {
	if s.Consumer == nil && s.inside != nil && s.inside.Wraps != nil {
		return s.inside
	}
	return s.Consumer
}
