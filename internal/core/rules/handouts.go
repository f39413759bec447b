package rules

import (
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// handout is who was given what, having asked for what: the same of the same kind counts once, however often it happened.
// Many rules follow from these alone, once all registrations are known.
type handout struct {
	consumer *ledger.Registration // nil: an entry point, an unregistered instance, or nobody known
	direct   string               // the consumer's implementation, where it has no registration
	entry    string
	given    *ledger.Registration // nil: made past the container
	impl     string               // of what was given, as made; "" where only the registration says
	asked    ledger.Asked         // as the line says; the zero value where it says nothing
	said     bool
	slot     int // the position in with, where asked has to be looked up in the needs; -1 otherwise
	all      bool
	via      *ledger.Registration
	how      string // of a give; "" of what a make lists
	site     string
}

// seenHandout is how often, when, and by which examples.
type seenHandout struct {
	handout
	n           int64
	factory     bool // what was given was made by a factory
	first, last int64
	examples    []handoutExample
}

type handoutExample struct {
	insts []*ledger.Instance
	scope *ledger.Scope
	line  int64
	t     int64
}

// handouts adds them up. It is bounded by what is registered, and by maxHandoutKinds where names never repeat.
type handouts struct {
	world *ledger.World
	seen  map[handout]*seenHandout
	list  []*seenHandout
}

const maxHandoutKinds = 50_000

func newHandouts(w *ledger.World) *handouts {
	return &handouts{world: w, seen: map[handout]*seenHandout{}}
}

// SharedSees are the kinds of change that Shared's own Watcher is given.
var SharedSees = []ledger.Happening{ledger.Bound, ledger.Given, ledger.Made}

// Watcher returns what keeps Shared up to date; it has to see each change before the rules do.
func (s *Shared) Watcher() Watcher { return s.handouts }

func (h *handouts) See(c *ledger.Change) {
	switch c.What {
	case ledger.Bound:
		if c.Edge == nil {
			return
		}
		e := c.Edge
		k := handout{given: c.Inst.Reg, impl: c.Inst.Impl(), slot: int(e.Slot), all: e.All}
		if q := e.Request; q != nil {
			k.asked, k.said, k.via = q.Asked, q.Said, q.Via
		}
		if e.Slot < 0 && c.Event.Kind == event.Give {
			k.said = c.Event.Has&event.Of(event.FService, event.FKey) != 0
			k.asked = ledger.Asked{Service: c.Event.Service, Key: c.Event.Key, HasKey: c.Event.Has.Has(event.FKey)}
			k.all, k.how, k.site = c.Event.All, c.Event.How, c.Event.Site
			if c.Event.Has.Has(event.FVia) {
				k.via = h.world.Registration(c.Event.Via)
			}
		} else if e.Slot < 0 {
			return // shown by a use: its hand-out was counted when it came
		}
		h.add(k, c.Holder, c.Inst, c.Scope, c.Event)
	case ledger.Given:
		if c.Event.How == "property" && c.Holder != nil {
			return // it comes as Bound
		}
		k := handout{given: c.Inst.Reg, impl: c.Inst.Impl(), slot: -1, all: c.Event.All, entry: c.Event.Entry, how: c.Event.How, site: c.Event.Site}
		k.said = c.Event.Has&event.Of(event.FService, event.FKey) != 0
		k.asked = ledger.Asked{Service: c.Event.Service, Key: c.Event.Key, HasKey: c.Event.Has.Has(event.FKey)}
		if c.Event.Has.Has(event.FVia) {
			k.via = h.world.Registration(c.Event.Via)
		}
		h.add(k, c.Holder, c.Inst, c.Scope, c.Event)
	case ledger.Made:
		for n := range c.Event.With {
			w := &c.Event.With[n]
			if !w.Passing || w.Inst == 0 {
				continue
			}
			if i := h.world.Instance(w.Inst); i != nil {
				k := handout{given: i.Reg, impl: i.Impl(), slot: w.Slot, all: w.All, said: w.Service != "" || w.HasKey}
				k.asked = ledger.Asked{Service: w.Service, Key: w.Key, HasKey: w.HasKey}
				h.add(k, c.Inst, i, c.Scope, c.Event)
			}
		}
	}
}

func (h *handouts) add(k handout, to, given *ledger.Instance, s *ledger.Scope, ev *event.Event) {
	if to != nil {
		k.consumer, k.entry = to.Reg, ""
		if to.Reg == nil {
			k.direct = to.Impl()
		}
	}
	one := h.find(k)
	if one == nil {
		if len(h.list) == maxHandoutKinds {
			return
		}
		one = &seenHandout{handout: k, first: ev.T, last: ev.T}
		if k.consumer != nil {
			mine, _ := k.consumer.Tag(handoutsTag).(*[]*seenHandout)
			if mine == nil {
				mine = &[]*seenHandout{}
				k.consumer.SetTag(handoutsTag, mine)
			}
			*mine = append(*mine, one)
		}
		h.seen[k] = one
		h.list = append(h.list, one)
	}
	one.n++
	one.last = max(one.last, ev.T)
	one.factory = one.factory || given.By == "factory"
	if len(one.examples) < finding.MaxExamples {
		x := handoutExample{insts: []*ledger.Instance{given}, scope: s, line: ev.Line, t: ev.T}
		if to != nil {
			x.insts = append(x.insts, to)
		}
		one.examples = append(one.examples, x)
	}
}

// find looks among the consumer's own first: they are few, and comparing them is faster than hashing so large a key.
func (h *handouts) find(k handout) *seenHandout {
	if k.consumer != nil {
		mine, _ := k.consumer.Tag(handoutsTag).(*[]*seenHandout)
		if mine == nil {
			return nil
		}
		if len(*mine) <= 8 {
			for _, one := range *mine {
				if one.handout == k {
					return one
				}
			}
			return nil
		}
	}
	return h.seen[k]
}

// asks returns what was asked for: as the line said, else as the consumer's needs say, else as it is registered.
func (s *seenHandout) asks() ledger.Asked {
	a := s.asked
	if s.said {
		if a.Service == "" && s.given != nil {
			a.Service = s.given.Service
		}
		return a
	}
	if need := s.need(); need != nil {
		return ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey}
	}
	if s.via != nil {
		return s.via.Asked()
	}
	if s.given != nil {
		return s.given.Asked()
	}
	return a
}

func (s *seenHandout) need() *event.Need {
	if s.slot < 0 || s.consumer == nil {
		return nil
	}
	return s.consumer.AskedAt(s.slot)
}

// forAll tells whether all of a service were asked for.
func (s *seenHandout) forAll() bool {
	need := s.need()
	return s.all || need != nil && need.All
}

// implementation returns what was given, as made, else as registered.
func (s *seenHandout) implementation() string {
	if s.impl == "" && s.given != nil {
		return s.given.Impl
	}
	return s.impl
}

// known tells whether both ends can be judged.
func (s *seenHandout) known() bool {
	return s.given != nil && s.given.Known && (s.consumer == nil || s.consumer.Known)
}

// who names the consumer, nil where nobody is known.
func (s *seenHandout) who() *finding.Ref {
	switch {
	case s.consumer != nil:
		r := s.consumer.Ref("")
		return &r
	case s.direct != "":
		return &finding.Ref{Service: s.direct, Implementation: finding.Text(s.direct)}
	case s.entry != "":
		return &finding.Ref{Service: s.entry}
	}
	return nil
}

// report reports every example of a hand-out as an occurrence of o.
func (s *seenHandout) report(out Reporter, o Occurrence) Case {
	var found Case
	for _, x := range s.examples {
		o.Scope, o.Insts, o.Line, o.T = x.scope, x.insts, x.line, x.t
		found = out.Report(o)
	}
	found.Count("instances", s.n)
	found.Last(s.last)
	return found
}
