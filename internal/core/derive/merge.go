package derive

import (
	"cmp"
	"slices"
	"time"
)

// Merge puts the states of several streams of one recording together: registrations that are the same in all that
// people can see are one. Scopes and instances belong to a stream and are not merged; neither are the log's chunks and
// places. The result of one state is that state.
func Merge(states []*State) *State {
	if len(states) == 1 {
		return states[0]
	}
	spans := make([]Span, len(states))
	for n, s := range states {
		spans[n] = s.Span()
	}
	m := NewMerger(spans)
	for _, s := range states {
		m.Add(s)
	}
	return m.State()
}

// Span is the time of a stream: its start, and the ns until the latest that was seen of it.
type Span struct {
	Start string // RFC 3339, as the reader has checked it
	T     int64
}

// Span returns that of a state.
func (s *State) Span() Span { return Span{s.Start, s.T} }

// Merger puts states together one by one, so that they need not be in memory at once. What is added last may be long gone when the
// state is asked for: nothing of it is kept but what the merged state shows.
type Merger struct{ m *merger }

// NewMerger returns one for streams of these times.
func NewMerger(spans []Span) *Merger {
	m := &merger{out: &State{Format: Format}, at: map[identity]int{}, handouts: map[handoutID]int{}, failures: map[failureID]int{}, costs: map[costOf]int{}, costRegs: map[costPlace]int{}, series: map[int]int{}}
	m.out.Registrations, m.out.Handouts, m.out.Failures, m.out.Costs = []Registration{}, []Handout{}, []Failure{}, []Cost{}
	m.out.Roots, m.out.ByHand = []Scope{}, []ByHand{}
	m.out.Open, m.out.Steps, m.out.Alive, m.out.Places, m.out.Chunks = []Scope{}, []Step{}, []Instance{}, []Place{}, []ChunkInfo{}
	m.out.Buckets = Buckets{WidthNS: 1, Opened: []int64{}, Closed: []int64{}, Regs: []Series{}}
	starts := make([]time.Time, len(spans))
	for n, s := range spans {
		starts[n], _ = time.Parse(time.RFC3339, s.Start)
		if n == 0 || starts[n].Before(m.start) {
			m.start = starts[n]
		}
	}
	for n, s := range spans {
		m.out.T = max(m.out.T, starts[n].Sub(m.start).Nanoseconds()+s.T)
	}
	for m.out.T/m.out.Buckets.WidthNS >= buckets {
		m.out.Buckets.WidthNS *= 2
	}
	return &Merger{m}
}

// Add adds a state, which stays as it is.
func (m *Merger) Add(s *State) {
	out := m.m.out
	if m.m.added == 0 {
		out.Stream, out.App, out.Version, out.Environment, out.Start = s.Stream, s.App, s.Version, s.Environment, s.Start
	}
	m.m.added++
	start, _ := time.Parse(time.RFC3339, s.Start)
	m.m.add(s, start.Sub(m.m.start).Nanoseconds())
}

// State returns all that was added. The Merger is at its end with that.
func (m *Merger) State() *State { return m.m.out }

type identity struct {
	service, key, impl, at, lifetime, container string
	nth                                         int // among those of one stream that are the same in all this
}

type handoutID struct {
	consumer, given, via    int
	direct, entry, impl     string
	service, key, site, how string
	all                     bool
}

type failureID struct {
	service, key, why string
	consumer          int
}

type merger struct {
	added    int
	out      *State
	start    time.Time
	at       map[identity]int
	handouts map[handoutID]int
	failures map[failureID]int
	costs    map[costOf]int
	costRegs map[costPlace]int // places in the lists of costs
	series   map[int]int       // places in the list of series, by registration
}

type costPlace struct{ cost, reg int }

func (m *merger) add(s *State, offset int64) {
	out := m.out
	out.Lines += s.Lines
	out.Scopes += s.Scopes
	out.Weight += s.Weight
	out.OpenCount += s.OpenCount
	out.Ended = (out.Ended || len(out.Registrations) == 0) && s.Ended
	out.AliveMore = out.AliveMore || s.AliveMore
	out.SharedSeen = (out.SharedSeen || len(out.Registrations) == 0) && s.SharedSeen
	out.WithSeen, out.UseSeen, out.DisposalSeen = out.WithSeen || s.WithSeen, out.UseSeen || s.UseSeen, out.DisposalSeen || s.DisposalSeen
	to := m.registrations(s, offset)
	index := func(n int) int {
		if n < 0 || n >= len(to) {
			return None
		}
		return to[n]
	}
	for n := range s.Registrations {
		r := &out.Registrations[to[n]]
		if r.Wraps == unresolved {
			from := &s.Registrations[n]
			r.Wraps, r.Alias, r.Proxy, r.Answered, r.FormOf = index(from.Wraps), index(from.Alias), index(from.Proxy), index(from.Answered), index(from.FormOf)
		}
	}
	for n := range s.Handouts {
		m.handout(&s.Handouts[n], index)
	}
	for _, f := range s.Failures {
		f.Consumer = index(f.Consumer)
		id := failureID{f.Asked.Service, keyText(f.Asked.Key), f.Why, f.Consumer}
		if at, ok := m.failures[id]; ok {
			out.Failures[at].Count += f.Count
			continue
		}
		m.failures[id] = len(out.Failures)
		out.Failures = append(out.Failures, f)
	}
	for _, c := range s.Costs {
		m.cost(c, index)
	}
	m.buckets(s, offset, index)
	out.Open = append(out.Open, s.Open...)
	out.Roots = append(out.Roots, s.Roots...)
	for _, hand := range s.ByHand {
		at := slices.IndexFunc(out.ByHand, func(o ByHand) bool { return o.Impl == hand.Impl && o.At == hand.At })
		if at < 0 {
			if len(out.ByHand) < maxByHand {
				out.ByHand = append(out.ByHand, hand)
			}
			continue
		}
		out.ByHand[at].Count += hand.Count
		out.ByHand[at].Disposed += hand.Disposed
	}
	for _, step := range s.Steps {
		step.Reg = index(step.Reg)
		step.T += offset
		step.Stream = s.Stream
		out.Steps = append(out.Steps, step)
	}
	for _, i := range s.Alive {
		i.Reg = index(i.Reg)
		out.Alive = append(out.Alive, i)
	}
	slices.SortStableFunc(out.Steps, func(a, b Step) int { return cmp.Compare(a.T, b.T) })
}

// unresolved marks a registration whose references are still to be set.
const unresolved = -2

func keyText(key *string) string {
	if key == nil {
		return ""
	}
	return "=" + *key
}

func (m *merger) registrations(s *State, offset int64) []int {
	to := make([]int, len(s.Registrations))
	seen := map[identity]int{}
	for n := range s.Registrations {
		r := s.Registrations[n]
		id := identity{service: r.Service, key: keyText(r.Key), impl: r.Impl, at: r.At, lifetime: r.Lifetime, container: r.Container}
		r.First, r.Last = r.First.later(offset), r.Last.later(offset)
		seen[id]++
		id.nth = seen[id]
		at, ok := m.at[id]
		if !ok {
			m.at[id] = len(m.out.Registrations)
			to[n] = len(m.out.Registrations)
			r.Wraps = unresolved
			m.out.Registrations = append(m.out.Registrations, r)
			continue
		}
		to[n] = at
		one := &m.out.Registrations[at]
		one.Made += r.Made
		one.Ended += r.Ended
		one.Most += r.Most
		one.Used += r.Used
		one.Disposed += r.Disposed
		one.Undisposed += r.Undisposed
		one.ByCode += r.ByCode
		one.TookNS += r.TookNS
		one.OwnNS += r.OwnNS
		one.MaxNS = max(one.MaxNS, r.MaxNS)
		one.Bytes += r.Bytes
		if r.First != nil && (one.First == nil || r.First.T < one.First.T) {
			one.First = r.First
		}
		if r.Last != nil && (one.Last == nil || r.Last.T > one.Last.T) {
			one.Last = r.Last
		}
		one.Verdict = together(one.Verdict, r.Verdict)
	}
	return to
}

// later returns c with its time counted from a start that is offset ns earlier.
func (c *Creation) later(offset int64) *Creation {
	if c == nil {
		return nil
	}
	moved := *c
	moved.T += offset
	return &moved
}

// together is the verdict on what two streams showed.
func together(a, b Verdict) Verdict {
	says := func(v Verdict) bool { return v.As != BehavedUnknown && v.As != BehavedUnbuilt }
	switch {
	case a.As == b.As, !says(b):
		return a
	case !says(a):
		return b
	// What was asked for once in each scope is as well what the other stream shows more of.
	case a.As == BehavedOnce && (b.As == BehavedScope || b.As == BehavedRequest):
		return b
	case b.As == BehavedOnce && (a.As == BehavedScope || a.As == BehavedRequest):
		return a
	}
	no := false
	return Verdict{As: BehavedMixed, Agrees: &no, Why: a.As + " in one stream, " + b.As + " in another"}
}

func (m *merger) handout(h *Handout, index func(int) int) {
	one := *h
	one.Consumer, one.Given, one.Via = index(h.Consumer), index(h.Given), index(h.Via)
	one.Chains = nil
	for _, c := range h.Chains {
		moved := Chain{}
		for _, l := range c.Layers {
			moved.Layers = append(moved.Layers, Layer{index(l.Reg), l.Impl})
		}
		one.Chains = append(one.Chains, moved)
	}
	id := handoutID{
		consumer: one.Consumer, given: one.Given, via: one.Via, direct: h.Direct, entry: h.Entry, impl: h.Impl,
		service: h.Asked.Service, key: keyText(h.Asked.Key), site: h.Site, how: h.How, all: h.All,
	}
	at, ok := m.handouts[id]
	if !ok {
		m.handouts[id] = len(m.out.Handouts)
		m.out.Handouts = append(m.out.Handouts, one)
		return
	}
	before := &m.out.Handouts[at]
	before.Count += one.Count
	for _, c := range one.Chains {
		if !slices.ContainsFunc(before.Chains, func(o Chain) bool { return slices.Equal(o.Layers, c.Layers) }) {
			before.Chains = append(before.Chains, c)
		}
	}
}

func (m *merger) cost(c Cost, index func(int) int) {
	id := costOf{c.Name, c.Kind}
	at, ok := m.costs[id]
	if !ok {
		at = len(m.out.Costs)
		m.costs[id] = at
		m.out.Costs = append(m.out.Costs, Cost{Name: c.Name, Kind: c.Kind, Regs: []CostReg{}})
	}
	one := &m.out.Costs[at]
	one.Scopes += c.Scopes
	one.TotalNS += c.TotalNS
	one.BuiltNS += c.BuiltNS
	one.Most = max(one.Most, c.Most)
	for _, r := range c.Regs {
		r.Reg = index(r.Reg)
		k, ok := m.costRegs[costPlace{at, r.Reg}]
		if !ok {
			m.costRegs[costPlace{at, r.Reg}] = len(one.Regs)
			one.Regs = append(one.Regs, r)
			continue
		}
		o := &one.Regs[k]
		o.Scopes += r.Scopes
		o.Made += r.Made
		o.TookNS += r.TookNS
		o.OwnNS += r.OwnNS
		o.MaxNS = max(o.MaxNS, r.MaxNS)
		o.MadePer.Merge(r.MadePer)
		o.OwnPer.Merge(r.OwnPer)
		o.Most.More(r.Most)
		o.MostTook.More(r.MostTook)
		o.Bytes += r.Bytes
	}
}

func (m *merger) buckets(s *State, offset int64, index func(int) int) {
	b := &m.out.Buckets
	n := int(m.out.T/b.WidthNS) + 1
	grow := func(list []int64) []int64 {
		for len(list) < n {
			list = append(list, 0)
		}
		return list
	}
	pour := func(into, from []int64) {
		for k, v := range from {
			at := (offset + int64(k)*s.Buckets.WidthNS) / b.WidthNS
			into[min(int(at), n-1)] += v
		}
	}
	b.Opened, b.Closed = grow(b.Opened), grow(b.Closed)
	pour(b.Opened, s.Buckets.Opened)
	pour(b.Closed, s.Buckets.Closed)
	for _, r := range s.Buckets.Regs {
		reg := index(r.Reg)
		k, ok := m.series[reg]
		if !ok {
			k = len(b.Regs)
			m.series[reg] = k
			b.Regs = append(b.Regs, Series{Reg: reg, Made: grow(nil), Ended: grow(nil), OwnNS: grow(nil), Most: grow(nil)})
		}
		pour(b.Regs[k].Made, r.Made)
		pour(b.Regs[k].Ended, r.Ended)
		pour(b.Regs[k].OwnNS, r.OwnNS)
		// Of one stream the greatest counts; the streams' are added, for they are separate processes.
		most := grow(nil)
		for step, v := range r.Most {
			at := min(int((offset+int64(step)*s.Buckets.WidthNS)/b.WidthNS), n-1)
			most[at] = max(most[at], v)
		}
		alive := int64(0)
		for step := range r.Made {
			alive += r.Made[step] - r.Ended[step]
		}
		for at := min(int((offset+int64(len(r.Made))*s.Buckets.WidthNS)/b.WidthNS), n-1); at < n; at++ {
			most[at] = max(most[at], alive)
		}
		for at := range most {
			b.Regs[k].Most[at] += most[at]
		}
	}
}
