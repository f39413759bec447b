package replay_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/replay"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

// wiring is a made-up application: registrations that need others of a higher number, and what its code asks for in which scope.
type wiring struct {
	lifetimes  []string
	disposable []bool
	needs      [][]int
	cost       []int64 // ns that construction takes by itself
	steps      []step
	late       map[int]bool // those that are given what they need twice by a property, within their construction
}

type step struct {
	does  string // "open", "close" or "ask"
	scope int    // from 1
	reg   int
}

func invent(r *rand.Rand) *wiring {
	w := &wiring{}
	kinds := []string{replay.Singleton, replay.Scoped, replay.Transient}
	for n := range 2 + r.IntN(6) {
		w.lifetimes = append(w.lifetimes, kinds[r.IntN(3)])
		w.disposable = append(w.disposable, r.IntN(2) == 0)
		w.cost = append(w.cost, 10+int64(r.IntN(90)))
		w.needs = append(w.needs, nil)
		_ = n
	}
	for n := range w.needs {
		for m := n + 1; m < len(w.needs); m++ {
			if r.IntN(5) < 2 {
				w.needs[n] = append(w.needs[n], m)
				if r.IntN(4) == 0 {
					w.needs[n] = append(w.needs[n], m) // twice
				}
			}
		}
	}
	var open []int
	for scope := 1; scope <= 1+r.IntN(6); scope++ {
		w.steps = append(w.steps, step{does: "open", scope: scope})
		open = append(open, scope)
		for range r.IntN(6) {
			w.steps = append(w.steps, step{does: "ask", scope: open[r.IntN(len(open))], reg: r.IntN(len(w.lifetimes))})
		}
		for len(open) > 0 && r.IntN(3) > 0 {
			at := r.IntN(len(open))
			w.steps = append(w.steps, step{does: "close", scope: open[at]})
			open = slices.Delete(open, at, at+1)
		}
	}
	for _, scope := range open {
		w.steps = append(w.steps, step{does: "close", scope: scope})
	}
	return w
}

// run is a container: it makes what is asked for by the lifetimes, keeps and disposes it, and records that.
func (w *wiring) run() []*event.Event {
	c := &container{w: w, single: map[int]uint64{}, scoped: map[[2]int]uint64{}, ends: map[int][]uint64{}, given: map[uint64][]uint64{}}
	c.note(&event.Event{Kind: event.Hello, Format: "lantern/1", App: "harbour", Stream: "s", Start: "2026-03-02T05:40:00Z", Has: event.Of(event.FFormat, event.FApp, event.FStream, event.FStart)})
	for n := range w.lifetimes {
		c.note(&event.Event{
			Kind: event.Register, Reg: event.RegID(n + 1), Service: name(n), Impl: name(n), Lifetime: w.lifetimes[n], Disposable: w.disposable[n],
			Has: event.Of(event.FReg, event.FService, event.FImpl, event.FLifetime, event.FDisposable),
		})
	}
	for _, s := range w.steps {
		switch s.does {
		case "open":
			c.note(&event.Event{Kind: event.Open, Scope: event.ScopeID(s.scope), Name: "GET /berths", ScopeKind: "request", Has: event.Of(event.FScope, event.FName, event.FKind)})
		case "close":
			c.dispose(s.scope)
			c.note(&event.Event{Kind: event.Close, Scope: event.ScopeID(s.scope), Has: event.Of(event.FScope)})
		case "ask":
			inst := c.get(s.reg, s.scope, s.scope)
			c.note(&event.Event{Kind: event.Give, Inst: event.InstID(inst), Scope: event.ScopeID(s.scope), How: "locator", Has: event.Of(event.FInst, event.FScope, event.FHow)})
			c.use(inst, s.scope)
		}
	}
	c.dispose(0)
	c.note(&event.Event{Kind: event.Bye})
	return c.events
}

func name(reg int) string { return string(rune('A' + reg)) }

type container struct {
	w      *wiring
	events []*event.Event
	clock  int64
	last   uint64
	single map[int]uint64
	scoped map[[2]int]uint64
	ends   map[int][]uint64 // what is disposed with a scope
	given  map[uint64][]uint64
}

// use has an instance call each of what it was given, which do the same.
func (c *container) use(inst uint64, scope int) {
	for _, dep := range c.given[inst] {
		c.note(&event.Event{
			Kind: event.Use, Count: 1, Inst: event.InstID(dep), User: event.InstID(inst), Scope: event.ScopeID(scope),
			Has: event.Of(event.FInst, event.FBy, event.FScope),
		})
		c.use(dep, scope)
	}
}

func (c *container) note(ev *event.Event) {
	c.clock++
	ev.T, ev.Line = c.clock, int64(len(c.events)+1)
	c.events = append(c.events, ev)
}

// get returns an instance that is resolved from a scope while the work of another one goes on.
func (c *container) get(reg, from, work int) uint64 {
	switch c.w.lifetimes[reg] {
	case replay.Singleton:
		if inst, ok := c.single[reg]; ok {
			return inst
		}
		inst := c.build(reg, 0, work)
		c.single[reg] = inst
		return inst
	case replay.Scoped:
		if inst, ok := c.scoped[[2]int{reg, from}]; ok {
			return inst
		}
		inst := c.build(reg, from, work)
		c.scoped[[2]int{reg, from}] = inst
		return inst
	}
	return c.build(reg, from, work)
}

func (c *container) build(reg, home, work int) uint64 {
	began := c.clock
	var with, late []event.With
	for slot, need := range c.w.needs[reg] {
		w := event.With{Slot: slot, Inst: event.InstID(c.get(need, home, work))}
		if c.w.late[reg] && slot > 0 && c.w.needs[reg][slot-1] == need {
			late = append(late, w)
		} else {
			with = append(with, w)
		}
	}
	var inst uint64
	defer func() {
		for _, w := range late {
			c.note(&event.Event{Kind: event.Give, Inst: w.Inst, To: event.InstID(inst), Scope: event.ScopeID(work), How: "property", Has: event.Of(event.FInst, event.FTo, event.FScope, event.FHow)})
			c.clock--
		}
		for _, w := range append(with, late...) {
			c.given[inst] = append(c.given[c.last], uint64(w.Inst))
		}
	}()
	c.clock += c.w.cost[reg]
	c.last++
	inst = c.last
	if c.w.disposable[reg] {
		c.ends[home] = append(c.ends[home], inst)
	}
	ev := &event.Event{
		Kind: event.Make, Inst: event.InstID(inst), Reg: event.RegID(reg + 1), Scope: event.ScopeID(work), Owner: event.ScopeID(home), With: with,
		Has: event.Of(event.FInst, event.FReg, event.FScope, event.FOwner, event.FWith, event.FNS),
	}
	ev.NS = c.clock + 1 - began
	c.note(ev)
	return inst
}

func (c *container) dispose(scope int) {
	for _, inst := range slices.Backward(c.ends[scope]) {
		c.note(&event.Event{Kind: event.Dispose, Inst: event.InstID(inst), Scope: event.ScopeID(scope), By: "container", Has: event.Of(event.FInst, event.FScope, event.FBy)})
	}
	delete(c.ends, scope)
}

// learn analyses events.
func learn(events []*event.Event) (*engine.Result, *derive.State) {
	a := engine.NewStream(rules.Default(), nil)
	for n, ev := range events {
		a.Put(reader.Line{Number: int64(n + 1), Event: ev.Clone()})
	}
	a.Finish()
	return a.Result(), a.State()
}

// touched is what a change can reach: the registration, and what is built for it and lives no longer than a scope.
func touched(w *wiring, regs ...int) map[event.RegID]bool {
	out := map[event.RegID]bool{}
	var reach func(reg int)
	reach = func(reg int) {
		if out[event.RegID(reg+1)] {
			return
		}
		out[event.RegID(reg+1)] = true
		for _, need := range w.needs[reg] {
			if w.lifetimes[need] != replay.Singleton {
				reach(need)
			}
		}
	}
	for _, reg := range regs {
		reach(reg)
	}
	return out
}

// summary is what a replay has to get right: what was made, how many were alive at once, how many were disposed and not, what
// construction took without what was built for it, and who keeps what outlived it.
func summary(events []*event.Event) []string {
	result, state := learn(events)
	var out []string
	for _, r := range state.Registrations {
		out = append(out, fmt.Sprintf("%s %s made %d ended %d most %d disposed %d undisposed %d used %d own %d", r.Service, r.Lifetime, r.Made, r.Ended, r.Most, r.Disposed, r.Undisposed, r.Used, r.OwnNS/10*10))
	}
	for _, f := range result.Findings {
		if strings.HasPrefix(f.Rule, "captive/") && f.Holder != nil {
			out = append(out, f.Rule+" "+f.Holder.Service+" keeps "+f.Subject.Service)
		}
		if strings.HasPrefix(f.Rule, "disposal/used") || f.Rule == "disposal/order" {
			out = append(out, f.Rule+" "+f.Subject.Service)
		}
	}
	slices.Sort(out)
	return out
}

// What is asked of a recording with one lifetime is what a recording with the other one shows, for thousands of random applications.
func TestReplayIsRight(t *testing.T) {
	r := rand.New(rand.NewPCG(2027, 3))
	changed := 0
	for round := range 2500 {
		w := invent(r)
		before := slices.Clone(w.lifetimes)
		after := slices.Clone(w.lifetimes)
		plan := replay.Plan{Changes: map[event.RegID]replay.Change{}}
		var regs []int
		for range 1 + r.IntN(2) { // one, or several at once
			reg, to := r.IntN(len(after)), []string{replay.Singleton, replay.Scoped, replay.Transient}[r.IntN(3)]
			if to == before[reg] || slices.Contains(regs, reg) {
				continue
			}
			regs, after[reg] = append(regs, reg), to
			plan.Changes[event.RegID(reg+1)] = replay.Change{Lifetime: to}
		}
		if len(regs) == 0 {
			continue
		}
		changed++
		plan.Touched = touched(w, regs...)
		w.late = map[int]bool{}
		for n := range w.needs {
			w.late[n] = n%2 == 1 && !plan.Touched[event.RegID(n+1)]
		}
		recorded := w.run()
		var played []*event.Event
		p := replay.New(plan, func(ev *event.Event) { played = append(played, ev.Clone()) })
		for _, ev := range recorded {
			p.Put(ev)
		}
		w.lifetimes = after
		want := summary(w.run())
		if got := summary(played); !slices.Equal(want, got) {
			for _, ev := range recorded {
				t.Logf("recorded %s t=%d ns=%d inst=%d reg=%d scope=%d owner=%d with=%v", ev.Kind, ev.T, ev.NS, ev.Inst, ev.Reg, ev.Scope, ev.Owner, ev.With)
			}
			for _, ev := range played {
				t.Logf("played   %s t=%d ns=%d inst=%d reg=%d scope=%d owner=%d with=%v", ev.Kind, ev.T, ev.NS, ev.Inst, ev.Reg, ev.Scope, ev.Owner, ev.With)
			}
			require.Equal(t, want, got, "round %d: needs %v, from %v to %v", round, w.needs, before, after)
		}
	}
	assert.Greater(t, changed, 1000)
}

// Nothing is changed where nothing is asked.
func TestReplayOfNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(2027, 4))
	for range 300 {
		w := invent(r)
		recorded := w.run()
		all := map[event.RegID]bool{}
		for n := range w.lifetimes {
			all[event.RegID(n+1)] = true
		}
		var played []*event.Event
		p := replay.New(replay.Plan{Touched: all}, func(ev *event.Event) { played = append(played, ev.Clone()) })
		for _, ev := range recorded {
			p.Put(ev)
		}
		require.Equal(t, summary(recorded), summary(played))
	}
}

// Cycles, chains without end and wirings that double at each step are played within bounds.
func TestHostileWirings(t *testing.T) {
	play := func(changes, touched int, makes func(put func(inst int, with ...int))) (*replay.Replay, int) {
		plan := replay.Plan{Changes: map[event.RegID]replay.Change{}, Touched: map[event.RegID]bool{}}
		for n := 1; n <= changes; n++ {
			plan.Changes[event.RegID(n)] = replay.Change{Lifetime: replay.Transient}
		}
		for n := 1; n <= touched; n++ {
			plan.Touched[event.RegID(n)] = true
		}
		made := 0
		p := replay.New(plan, func(ev *event.Event) {
			if ev.Kind == event.Make {
				made++
			}
		})
		for n := 1; n <= touched; n++ {
			p.Put(&event.Event{Kind: event.Register, Reg: event.RegID(n), Service: "s", Lifetime: replay.Singleton, Has: event.Of(event.FReg, event.FLifetime)})
		}
		makes(func(inst int, with ...int) {
			ev := &event.Event{Kind: event.Make, Inst: event.InstID(inst), Reg: event.RegID(min(inst, touched)), Has: event.Of(event.FInst, event.FReg, event.FScope)}
			for slot, w := range with {
				ev.With = append(ev.With, event.With{Slot: slot, Inst: event.InstID(w)})
			}
			p.Put(ev)
		})
		p.Put(&event.Event{Kind: event.Bye})
		return p, made
	}
	_, made := play(2, 2, func(put func(int, ...int)) { put(1, 2); put(2, 1); put(2, 2) })
	assert.Less(t, made, 10, "a cycle")
	_, made = play(1, 1, func(put func(int, ...int)) {
		put(1)
		for n := 2; n < 100_000; n++ {
			put(n, n-1)
		}
	})
	assert.LessOrEqual(t, made, 200_000, "a chain")
	p, made := play(60, 60, func(put func(int, ...int)) {
		put(1)
		for n := 2; n <= 60; n++ {
			put(n, n-1, n-1)
		}
	})
	assert.True(t, p.TooMuch(), "each doubles the one before")
	assert.Less(t, made, 200_000)
}
