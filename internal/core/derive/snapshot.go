package derive

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// State returns a copy of what is known now.
func (t *Tracker) State() *State {
	w := t.world
	st := w.Stream
	s := &State{
		Format: Format, Stream: st.Stream, App: st.App, Version: st.Version, Environment: st.Environment, Start: st.StartText,
		T: w.T, Lines: w.Line, Ended: w.Ended, Scopes: w.ScopesOpened, Weight: w.ScopeWeight,
		Registrations: []Registration{}, Handouts: []Handout{}, Failures: []Failure{}, Costs: []Cost{}, Open: []Scope{},
		Roots: []Scope{}, ByHand: []ByHand{}, Steps: []Step{}, Alive: []Instance{}, Places: slices.Clone(t.places), Chunks: slices.Clone(t.log.info),
		WithSeen: w.Sees&ledger.SeesWith != 0, SharedSeen: w.Sees&ledger.SeesShared != 0, UseSeen: w.Sees&ledger.SeesUse != 0, DisposalSeen: w.Sees&ledger.SeesDispose != 0,
	}
	if s.Places == nil {
		s.Places = []Place{}
	}
	if s.Chunks == nil {
		s.Chunks = []ChunkInfo{}
	}
	at := map[*ledger.Registration]int{}
	for n, r := range w.Registrations() {
		at[r] = n
	}
	index := func(r *ledger.Registration) int {
		if n, ok := at[r]; ok && r != nil {
			return n
		}
		return None
	}
	living, bytes := t.living(s, index)
	wiring := t.facts.Answers()
	containers := int64(max(1, len(w.Containers)))
	for _, r := range w.Registrations() {
		s.Registrations = append(s.Registrations, t.registration(r, wiring, index, living[r], bytes[r], containers))
	}
	t.handouts(s, index)
	for _, k := range t.failed {
		f := *t.failures[k]
		f.Consumer = index(k.consumer)
		s.Failures = append(s.Failures, f)
	}
	t.costsInto(s, index)
	t.bucketsInto(s, index)
	t.world.Open(func(o *ledger.Scope) {
		if o.Ended {
			return
		}
		s.OpenCount++
		s.Open = append(s.Open, rowOf(o, w))
	})
	t.world.Roots(func(root *ledger.Scope) {
		row := rowOf(root, w)
		if row.LastLine = root.LastLine; root.Ended {
			row.LastLine = max(row.LastLine, root.CloseLine)
		}
		row.Line = max(row.Line, 1)
		s.Roots = append(s.Roots, row)
	})
	for _, hand := range t.hands {
		s.ByHand = append(s.ByHand, *hand)
	}
	slices.SortFunc(s.Open, func(a, b Scope) int { return cmp.Or(cmp.Compare(a.Opened, b.Opened), cmp.Compare(a.ID, b.ID)) })
	s.Open = s.Open[:min(len(s.Open), maxOpen)]
	for n := max(0, t.stepN-maxSteps); n < t.stepN; n++ {
		step := t.steps[n%maxSteps]
		if step.Reg != None {
			step.Reg = index(w.Registration(event.RegID(step.Reg)))
		}
		s.Steps = append(s.Steps, step)
	}
	return s
}

// living adds the evidence of what is alive to a copy of each registration's, and lists what is at home in a root.
func (t *Tracker) living(s *State, index func(*ledger.Registration) int) (map[*ledger.Registration]*seen, map[*ledger.Registration]int64) {
	more, bytes := map[*ledger.Registration]*seen{}, map[*ledger.Registration]int64{}
	t.world.Living(func(i *ledger.Instance) {
		if home := i.Home(); len(s.Alive) >= maxAlive {
			s.AliveMore = s.AliveMore || home == nil || home.Root
		} else if home == nil || home.Root {
			alive := Instance{
				ID: uint64(i.ID), Reg: index(i.Reg), Impl: i.Impl(), Made: i.Made, Disposable: i.Disposable(),
				Disposed: i.Done > 0 || i.Handed, Bytes: i.Size,
			}
			if home != nil {
				alive.Home = uint64(home.ID)
			}
			s.Alive = append(s.Alive, alive)
		}
		if i.Reg == nil {
			return
		}
		bytes[i.Reg] += i.Size
		if more[i.Reg] == nil {
			one := t.tally(i.Reg).seen
			more[i.Reg] = &one
		}
		more[i.Reg].add(i)
	})
	return more, bytes
}

func (t *Tracker) registration(r *ledger.Registration, wiring *facts.Answers, index func(*ledger.Registration) int, evidence *seen, bytes, containers int64) Registration {
	one := t.tally(r)
	if evidence == nil {
		evidence = &one.seen
	}
	out := Registration{
		ID: uint64(r.ID), Container: r.Container.Name, Service: r.Service, Impl: cmp.Or(r.Impl, one.impl), Lifetime: string(r.Lifetime),
		Declared: string(r.Declared), At: r.At, Module: r.Module, Internal: r.Internal, Local: r.Local, Primary: r.Primary,
		Disposable: r.Disposable, Disposer: r.Disposer, Also: []Name{}, Needs: []Need{}, Wraps: index(r.Inner()),
		Alias: index(r.Alias), Proxy: index(r.Proxy), Answered: None, Duplicates: r.Container.Duplicates,
		Made: r.Made, Ended: r.Ended, Most: r.Most, Used: r.Used, Disposed: one.disposed, Undisposed: one.undisposed, ByCode: one.byCode, TookNS: one.took,
		OwnNS: one.own, MaxNS: one.max, Bytes: bytes, Verdict: evidence.verdict(r, containers),
		FormOf: index(r.FormOf), Template: r.Template.Names(), Pooled: r.Pooled, Mechanism: r.Mechanism, Signature: r.Signature,
		First: t.creation(one.first), Last: t.creation(one.last),
	}
	if out.Template == nil {
		out.Template = []string{}
	}
	if r.HasKey {
		key := r.Key
		out.Key = &key
	}
	for _, a := range r.Names()[1:] {
		out.Also = append(out.Also, nameOf(a))
	}
	for n := range r.Needs {
		need := &r.Needs[n]
		asked := nameOf(ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey})
		out.Needs = append(out.Needs, Need{
			Site: need.Site, Service: asked.Service, Key: asked.Key, How: cmp.Or(need.How, "constructor"), All: need.All,
			Optional: need.Optional, Lazy: need.Lazy,
		})
	}
	if r.Known {
		out.Answered = index(wiring.Answer(r.Container, r.Asked()))
	}
	return out
}

// creation returns what a state has of c, nil if c is none.
func (t *Tracker) creation(c creation) *Creation {
	if c.inst == 0 {
		return nil
	}
	return &Creation{Instance: c.inst, Stream: t.world.Stream.Stream, T: c.t, Scope: c.scope, ScopeName: c.name, AtStart: c.t < t.world.Began}
}

func (t *Tracker) handouts(s *State, index func(*ledger.Registration) int) {
	for _, h := range t.facts.Grant("views", facts.OfHandouts).Handouts().All() {
		if len(s.Handouts) == maxHandouts {
			return
		}
		out := Handout{
			Consumer: index(h.By()), Direct: h.Direct, Entry: h.Entry, Given: index(h.Given), Impl: h.Impl(),
			Asked: nameOf(h.Asks()), Site: h.Site(), How: h.How(), All: h.ForAll(), Via: index(h.Via), Count: h.N, First: h.First,
			Last: h.Last, Chains: []Chain{}, Instances: []uint64{},
		}
		for _, x := range h.Examples {
			i := x.Insts[0]
			out.Instances = append(out.Instances, uint64(i.ID))
			if c := t.chain(i, index); len(c.Layers) > 0 && !slices.ContainsFunc(out.Chains, func(o Chain) bool { return slices.Equal(o.Layers, c.Layers) }) {
				out.Chains = append(out.Chains, c)
			}
		}
		s.Handouts = append(s.Handouts, out)
	}
}

func (t *Tracker) costsInto(s *State, index func(*ledger.Registration) int) {
	for _, c := range t.list {
		out := Cost{Name: c.name, Kind: c.kind, Scopes: c.scopes, TotalNS: c.total, BuiltNS: c.built, Most: c.most, Regs: []CostReg{}}
		for _, r := range c.list {
			one := r.CostReg
			one.Reg = index(r.reg)
			out.Regs = append(out.Regs, one)
		}
		s.Costs = append(s.Costs, out)
	}
}

func (t *Tracker) bucketsInto(s *State, index func(*ledger.Registration) int) {
	n := t.at(t.world.T) + 1
	s.Buckets = Buckets{WidthNS: 1 << t.shift, Opened: t.opened.used(n), Closed: t.closed.used(n), Regs: []Series{}}
	for _, r := range t.world.Registrations() {
		one := t.tally(r).series
		if one == nil {
			continue
		}
		s.Buckets.Regs = append(s.Buckets.Regs, Series{Reg: index(r), Made: one.made.used(n), Ended: one.ended.used(n), OwnNS: one.own.used(n), Most: one.filled(n)})
	}
}
