package engine

import (
	"fmt"
	"slices"
	"time"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/rules"
)

// collector makes findings of occurrences.
type collector struct {
	world *ledger.World
	cases map[string]*kase
	list  []*kase

	// Judges' findings are recomputed each time.
	judging bool             `freeze:"-"`
	judged  map[string]*kase `freeze:"-"`
	verdict []*kase          `freeze:"-"`
}

// kase is one finding adding up.
type kase struct {
	rule        *rules.Rule
	f           finding.Finding
	seen        int64
	explained   int64 // occurrences that another finding explains
	first, last int64
	examples    []example
	named       []namedInst // whose names go into lists
	world       *ledger.World
}

type namedInst struct {
	list string
	inst *ledger.Instance
}

// maxNamed bounds the instances of which a case keeps the names.
const maxNamed = 64

type example struct {
	inst  *ledger.Instance
	shown finding.Example
	watch *ledger.Watch
}

// maxCases bounds how many different mistakes of one stream are distinguished.
const maxCases = 10_000

func newCollector(w *ledger.World) *collector {
	return &collector{world: w, cases: map[string]*kase{}}
}

// Report counts o.
func (c *collector) Report(o rules.Occurrence) rules.Case {
	identity := finding.Identity{Rule: o.Rule.ID, Subject: o.Subject, Holder: o.Holder, Path: o.Path, Site: o.Site}
	id := identity.ID()
	cases, list := c.cases, &c.list
	if c.judging {
		cases, list = c.judged, &c.verdict
	}
	k := cases[id]
	if k == nil {
		k = &kase{rule: o.Rule, first: o.T, last: o.T, world: c.world}
		k.f = finding.Finding{
			ID: id, Rule: o.Rule.ID, Severity: o.Rule.Severity, Basis: o.Rule.Basis, Subject: o.Subject, Holder: o.Holder,
			Path: o.Path, Counts: map[string]int64{},
		}
		if o.Severity != 0 {
			k.f.Severity = o.Severity // it may be less than the rule's gravest
		}
		if k.f.Path == nil {
			k.f.Path = []finding.Ref{}
		}
		if len(*list) < maxCases {
			cases[id] = k
			*list = append(*list, k)
		}
	}
	k.seen++
	if o.Scope != nil && !c.judging {
		o.Scope.Findings++
	}
	k.f.Severity = max(k.f.Severity, o.Severity)
	if o.Because != "" {
		k.explained++
		k.f.Because = finding.Text(o.Because)
	}
	k.first = min(k.first, o.T)
	k.last = max(k.last, o.T)
	if len(k.examples) < finding.MaxExamples {
		k.examples = append(k.examples, c.example(&o))
	}
	return k
}

func (c *collector) example(o *rules.Occurrence) example {
	e := example{shown: finding.Example{Stream: c.world.Stream.Stream, Line: o.Line, T: o.T, Instances: []uint64{}}}
	if o.Scope != nil {
		id := uint64(o.Scope.ID)
		e.shown.Scope, e.shown.ScopeName = &id, o.Scope.Name
	}
	for _, i := range o.Insts {
		e.shown.Instances = append(e.shown.Instances, uint64(i.ID))
	}
	for _, id := range o.IDs {
		e.shown.Instances = append(e.shown.Instances, uint64(id))
	}
	if len(o.Insts) > 0 {
		if e.inst = o.Insts[0]; !c.judging { // judges' findings are recomputed before anything is evicted
			e.inst.Hold()
		}
		drawn := min(len(o.Roles), len(o.Insts))
		if drawn > 0 && !c.judging {
			e.watch = c.world.Follow(o.Roles[:drawn], o.Insts[:drawn])
		}
	}
	return e
}

func (k *kase) ID() string { return k.f.ID }

func (k *kase) Count(figure string, n int64) { k.f.Counts[figure] += n }

func (k *kase) Fact(list, name string) { k.f.AddFact(list, name) }

func (k *kase) Name(list string, i *ledger.Instance) {
	for _, n := range k.named {
		if n.list == list && (n.inst == i || n.inst.Reg == i.Reg && n.inst.Impl() == i.Impl()) {
			return
		}
	}
	if len(k.named) < maxNamed {
		k.named = append(k.named, namedInst{list, i.Hold()})
	}
}

func (k *kase) Most(figure string, n int64) { k.f.Counts[figure] = max(k.f.Counts[figure], n) }

func (k *kase) Set(figure string, n int64) { k.f.Counts[figure] = n }

func (k *kase) Grave(s finding.Severity) { k.f.Severity = max(k.f.Severity, s) }

func (k *kase) Last(t int64) { k.last = max(k.last, t) }

func (k *kase) Withdraw(inst *ledger.Instance) {
	k.seen--
	for n := range k.examples {
		if k.examples[n].inst == inst {
			k.examples = slices.Delete(k.examples, n, n+1)
			return
		}
	}
}

// judge asks every judge again.
func (c *collector) judge(judges []rules.Judge) {
	c.judged, c.verdict, c.judging = map[string]*kase{}, nil, true
	for _, j := range judges {
		j.Judge()
	}
	c.judging = false
}

// findings returns copies of all that stands, sorted, their sentences written.
func (c *collector) findings(h Health) []*finding.Finding {
	list := []*finding.Finding{}
	for _, k := range slices.Concat(c.list, c.verdict) {
		if k.seen == 0 {
			continue
		}
		f := k.f.Clone()
		for _, n := range k.named {
			f.AddFact(n.list, n.inst.Ref().Name())
		}
		if k.explained < k.seen {
			// Some of it stands by itself.
			f.Because = nil
		}
		f.First, f.Last = c.clock(k.first), c.clock(k.last)
		f.Examples = []finding.Example{}
		for _, e := range k.examples {
			shown := e.shown
			if e.watch != nil {
				shown.Evidence = e.watch.Evidence()
			}
			f.Examples = append(f.Examples, shown)
		}
		f.Caveat = caveat(k.rule, h)
		list = append(list, f)
	}
	Finalize(list)
	return list
}

// Finalize writes the sentences of findings whose figures are complete, and sorts them.
func Finalize(list []*finding.Finding) {
	for _, f := range list {
		rules.Tell(f)
	}
	finding.Sort(list)
}

func (c *collector) clock(t int64) string {
	return finding.Time(c.world.Stream.Start.Add(time.Duration(t)))
}

// caveat returns what the stream's health could have hidden from a rule.
func caveat(r *rules.Rule, h Health) *string {
	missing := h.Lost + h.Refused + h.Unresolved
	if missing == 0 || r.Hidden == "" {
		return nil
	}
	noun := "events"
	if missing == 1 {
		noun = "event"
	}
	return finding.Text(fmt.Sprintf("%d %s of this stream could not be used; %s may be among them.", missing, noun, r.Hidden))
}
