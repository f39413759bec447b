package derive

import (
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// Tracker adds up one stream. It is not safe for use by several goroutines.
type Tracker struct {
	world *ledger.World
	facts *facts.Facts

	costs    map[costOf]*cost
	known    ledger.PerNaming[cost] `freeze:"-"`
	list     []*cost
	here     []*costReg // those made in the scope that is inspected
	failures map[failure]*Failure
	failed   []failure
	byHand   map[handMade]*ByHand
	hands    []*ByHand

	shift          uint // the buckets' width is 1<<shift ns
	opened, closed count
	series         []*series

	steps  [maxSteps]Step
	stepN  int64
	places []Place
	log    log
}

// Sees are the kinds of change that a Tracker is given.
var Sees = []ledger.Happening{
	ledger.Opened, ledger.Made, ledger.ScopeClosed, ledger.InstanceEnded, ledger.DisposeSeen, ledger.Failed, ledger.ScopeForgotten,
}

// The bounds.
const (
	maxSteps      = 1024 // the latest disposals that are kept
	maxNames      = 1000 // names of scopes that are distinguished
	maxFailures   = 1000
	maxHandouts   = 20_000
	maxAlive      = 5000
	maxOpen       = 100
	placesEvery   = 2048 // makes between two Places
	maxChainDepth = 16
	maxByHand     = 2000 // implementations and places
)

// New returns a Tracker. Full chunks of the log of scopes go to full, which may be nil.
func New(w *ledger.World, f *facts.Facts, full func(Chunk)) *Tracker {
	return &Tracker{
		world: w, facts: f, costs: map[costOf]*cost{}, failures: map[failure]*Failure{}, byHand: map[handMade]*ByHand{}, shift: firstShift,
		log: log{full: full},
	}
}

// tally is what a Tracker hangs on a registration.
type tally struct {
	seen
	series     *series // nil until one is made
	impl       string  // as first made, for registrations that do not say it
	disposed   int64
	undisposed int64
	byCode     int64
	took       int64
	own        int64
	max        int64
	first      creation
	last       creation
}

// creation is a Creation of this stream.
type creation struct {
	inst, scope uint64
	t           int64
	name        string
}

// handMade is what a ByHand is known by.
type handMade struct{ impl, at string }

// Hung returns a value of each type that a Tracker hangs on things.
func Hung() []any { return []any{&tally{}} }

var tallyTag = ledger.NewRegTag()

func (t *Tracker) tally(r *ledger.Registration) *tally {
	if one, ok := r.Tag(tallyTag).(*tally); ok {
		return one
	}
	one := &tally{}
	r.SetTag(tallyTag, one)
	return one
}

// seriesOf returns a registration's counts in time. Only what was made has any.
func (t *Tracker) seriesOf(one *tally) *series {
	if one.series == nil {
		one.series = &series{}
		t.series = append(t.series, one.series)
	}
	return one.series
}

type costOf struct{ name, kind string }

type cost struct {
	costOf
	scopes, total, built int64
	open, most           int64
	regs                 map[*ledger.Registration]*costReg
	list                 []*costReg
}

type costReg struct {
	CostReg
	reg    *ledger.Registration
	tally  *tally
	isHere bool
	made   int64 // in the scope that is inspected
	own    int64
	took   int64
}

type failure struct {
	asked    ledger.Asked
	why      string
	consumer *ledger.Registration
	optional bool
}

func (t *Tracker) costOf(name, kind string) *cost {
	k := costOf{name, kind}
	c := t.costs[k]
	if c == nil && len(t.list) < maxNames {
		c = &cost{costOf: k, regs: map[*ledger.Registration]*costReg{}}
		t.costs[k] = c
		t.list = append(t.list, c)
	}
	return c
}

// costIn is costOf what s is called.
func (t *Tracker) costIn(s *ledger.Scope) *cost {
	if c := t.known.At(s.Naming); c != nil {
		return c
	}
	c := t.costOf(s.Name, s.Kind)
	if c != nil {
		t.known.Set(s.Naming, c)
	}
	return c
}

func (t *Tracker) costReg(c *cost, r *ledger.Registration) *costReg {
	one := c.regs[r]
	if one == nil {
		one = &costReg{reg: r, tally: t.tally(r)}
		c.regs[r] = one
		c.list = append(c.list, one)
	}
	return one
}

// See takes a change.
func (t *Tracker) See(c *ledger.Change) {
	switch c.What {
	case ledger.Made:
		t.made(c.Inst)
	case ledger.InstanceEnded:
		t.ended(c.Inst)
	case ledger.Opened:
		t.opened[t.at(c.Scope.Opened)]++
		if in := t.costIn(c.Scope); in != nil && !c.Scope.Root {
			in.open++
			in.most = max(in.most, in.open)
		}
	case ledger.ScopeClosed:
		t.closing(c.Scope)
	case ledger.DisposeSeen:
		t.step(c)
	case ledger.Failed:
		t.fail(c)
	case ledger.ScopeForgotten:
		if !c.Scope.Root {
			t.log.add(rowOf(c.Scope, t.world))
		}
	}
}

func (t *Tracker) made(i *ledger.Instance) {
	if (t.world.InstancesMade-1)%placesEvery == 0 {
		t.places = append(t.places, Place{uint64(i.ID), i.MadeLine})
	}
	if i.By == "direct" {
		if hand := t.hand(i); hand != nil {
			hand.Count++
		}
	}
	if i.Reg == nil {
		return
	}
	one := t.tally(i.Reg)
	one.last = creation{uint64(i.ID), uint64(i.Scope.ID), i.Made, i.Scope.Name}
	if one.first.inst == 0 {
		one.first = one.last
	}
	if one.impl == "" {
		one.impl = i.Impl()
	}
	at := t.at(i.Made)
	in := t.seriesOf(one)
	in.made[at]++
	in.most[at] = max(in.most[at], i.Reg.Made-i.Reg.Ended)
	one.took += i.NS
	one.max = max(one.max, i.NS)
	if !i.Scope.Root {
		return
	}
	one.outside++
	own := ownOf(i)
	one.own += own
	one.series.own[at] += own
	if c := t.costOf("", "root"); c != nil {
		r := t.costReg(c, i.Reg)
		r.Made++
		r.TookNS += i.NS
		r.OwnNS += own
		r.MaxNS = max(r.MaxNS, i.NS)
		r.Bytes += i.Size
	}
}

// hand returns what is known of the place that constructed i, nil where there is no room for another one.
func (t *Tracker) hand(i *ledger.Instance) *ByHand {
	k := handMade{i.Impl(), i.MadeAt()}
	one := t.byHand[k]
	if one == nil && len(t.hands) < maxByHand {
		one = &ByHand{Impl: k.impl, At: k.at}
		t.byHand[k] = one
		t.hands = append(t.hands, one)
	}
	return one
}

// ownOf returns how long the making of i took without what it was given that was made meanwhile. Outside any scope
// nothing closes soon, so that what ran within what depends on who keeps whom.
func ownOf(i *ledger.Instance) int64 {
	own := i.NS
	for n := range i.Keeps {
		if k := i.Keeps[n].Kept; k != nil && k.Made-k.NS >= i.Made-i.NS && k.Made <= i.Made {
			own -= k.NS
		}
	}
	return max(0, own)
}

func (t *Tracker) ended(i *ledger.Instance) {
	if i.Reg == nil {
		return
	}
	one := t.tally(i.Reg)
	at := t.at(i.EndedAt)
	t.seriesOf(one).ended[at]++
	one.seen.add(i)
	switch {
	case i.End == ledger.Disposed:
		one.disposed++
	case i.Disposable():
		one.undisposed++
	}
}

func (t *Tracker) closing(s *ledger.Scope) {
	if s.Root {
		return
	}
	at := t.at(s.ClosedAt)
	t.closed[at]++
	c := t.costIn(s)
	if c == nil {
		return
	}
	c.open = max(0, c.open-1)
	c.scopes++
	c.total += s.ClosedAt - s.Opened
	t.here = t.here[:0]
	for _, i := range s.Built {
		if i.Reg == nil {
			continue
		}
		r := t.costReg(c, i.Reg)
		if !r.isHere {
			r.isHere, r.made, r.own, r.took = true, 0, 0, 0
			t.here = append(t.here, r)
		}
		r.made++
		r.Made++
		r.took += i.NS
		r.TookNS += i.NS
		r.MaxNS = max(r.MaxNS, i.NS)
		r.Bytes += i.Size
	}
	for _, span := range t.world.Spans(s) {
		if span.Outer < 0 {
			s.BuiltNS += span.Inst.NS
		}
		if span.Inst.Reg != nil {
			c.regs[span.Inst.Reg].own += span.Own
		}
	}
	c.built += s.BuiltNS
	for _, r := range t.here {
		r.isHere = false
		r.Scopes++
		r.OwnNS += r.own
		in := InScope{Stream: t.world.Stream.Stream, Scope: uint64(s.ID), Line: s.Line}
		in.N = r.made
		r.Most.More(in)
		in.N = r.took
		r.MostTook.More(in)
		r.MadePer.Add(float64(r.made))
		r.OwnPer.Add(float64(r.own))
		r.tally.own += r.own
		t.seriesOf(r.tally).own[at] += r.own
		r.tally.scopes++
		if r.made > 1 {
			r.tally.several++
		}
	}
}

func (t *Tracker) step(c *ledger.Change) {
	i := c.Inst
	step := &t.steps[t.stepN%maxSteps]
	t.stepN++
	*step = Step{
		Instance: uint64(i.ID), Impl: i.Impl(), State: c.Event.State, By: c.Event.By, T: c.Event.T, NS: c.Event.NS, Reg: None,
	}
	if step.State == "" {
		step.State = "done"
	}
	if i.By == "direct" && step.State == "done" && i.Done == 1 {
		if hand := t.hand(i); hand != nil {
			hand.Disposed++
		}
	}
	if i.Reg != nil {
		step.Reg = int(i.Reg.ID)
		if step.State == "done" && step.By == "code" {
			t.tally(i.Reg).byCode++
		}
	}
	if home := i.Home(); home != nil {
		step.Home, step.HomeName, step.HomeKind, step.Root = uint64(home.ID), home.Name, home.Kind, home.Root
	}
	// It had ended with its home, and is disposed after all.
	if i.Reg != nil && i.End == ledger.HomeClosed && i.Done == 1 && step.State == "done" && i.Disposable() {
		one := t.tally(i.Reg)
		one.disposed++
		one.undisposed--
	}
}

func (t *Tracker) fail(c *ledger.Change) {
	ev := c.Event
	k := failure{asked: ledger.Asked{Service: ev.Service, Key: ev.Key, HasKey: ev.Has.Has(event.FKey)}, why: ev.Why, optional: ev.Optional}
	if ev.Has.Has(event.FFor) {
		k.consumer = t.world.Registration(ev.For)
	}
	if k.consumer == nil && c.Inst != nil {
		k.consumer = c.Inst.Reg
	}
	f := t.failures[k]
	if f == nil {
		if len(t.failed) == maxFailures {
			return
		}
		f = &Failure{Asked: nameOf(k.asked), Why: k.why, Optional: k.optional, Consumer: None}
		t.failures[k] = f
		t.failed = append(t.failed, k)
	}
	f.Count++
	f.Last = max(f.Last, ev.T)
}

func nameOf(a ledger.Asked) Name {
	n := Name{Service: a.Service}
	if a.HasKey {
		n.Key = &a.Key
	}
	return n
}

// Finish puts what is left of the closed scopes, and the open ones, into the log. It is called once, when nothing more
// will come.
func (t *Tracker) Finish() {
	t.Pending(func(s Scope) { t.log.add(s) })
	t.log.flush()
}

// Pending calls f for the scopes that are not in a chunk yet: the closed ones from the one that closed first, then the
// open ones.
func (t *Tracker) Pending(f func(Scope)) {
	for _, row := range t.log.rows {
		f(row)
	}
	t.world.Remembered(func(s *ledger.Scope) {
		if !s.Root && s.Known {
			f(rowOf(s, t.world))
		}
	})
	t.world.Open(func(s *ledger.Scope) {
		if !s.Ended {
			f(rowOf(s, t.world))
		}
	})
}

// chain returns the layers of an instance, outermost first.
func (t *Tracker) chain(i *ledger.Instance, index func(*ledger.Registration) int) Chain {
	layers := t.facts.Grant("views", facts.OfLayers).Layers()
	c := Chain{}
	for range maxChainDepth {
		c.Layers = append(c.Layers, Layer{index(i.Reg), finding.Ref.Impl(i.Ref())})
		next, _ := layers.Inner(i)
		if next == nil {
			break
		}
		i = next
	}
	return c
}
