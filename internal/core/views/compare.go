package views

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

// Comparison is two recordings side by side, or two parts of one.
type Comparison struct {
	A             Side               `json:"a"`
	B             Side               `json:"b"`
	New           []*finding.Finding `json:"new"`  // in B and not in A
	Gone          []*finding.Finding `json:"gone"` // in A and not in B
	Still         []*finding.Finding `json:"still"`
	Registrations []RegChange        `json:"registrations"`
	Verdicts      []VerdictChange    `json:"verdicts"`
	Answers       []AnswerChange     `json:"answers"`
	Costs         []CostChange       `json:"costs"` // the surest and largest first
	Totals        Totals             `json:"totals"`
}

// Totals is how many there are of each part of a Comparison, of which a page may list fewer.
type Totals struct {
	New           int `json:"new"`
	Gone          int `json:"gone"`
	Still         int `json:"still"`
	Registrations int `json:"registrations"`
	Verdicts      int `json:"verdicts"`
	Answers       int `json:"answers"`
	Costs         int `json:"costs"`
}

// Side is one side of a Comparison.
type Side struct {
	Recording string `json:"recording"`
	Part      string `json:"part"` // "", "first half", "second half", or a version
	App       string `json:"app"`
	Version   string `json:"version"`
	Scopes    int64  `json:"scopes"` // recorded
	Findings  int    `json:"findings"`
}

// RegChange is a registration that is new, gone, or not what it was.
type RegChange struct {
	Change string      `json:"change"` // "added", "removed", "changed"
	Of     finding.Ref `json:"of"`
	Fields []Field     `json:"fields"`
}

// Field is one particular before and after.
type Field struct {
	Name string `json:"name"` // "lifetime", "implementation", "layers", "order", "answers", "place"
	A    string `json:"a"`
	B    string `json:"b"`
}

// VerdictChange is a lifetime that behaves otherwise than before.
type VerdictChange struct {
	Of finding.Ref    `json:"of"`
	A  derive.Verdict `json:"a"`
	B  derive.Verdict `json:"b"`
}

// AnswerChange is a consumer that asks for the same and is given something else: another key, or another implementation.
type AnswerChange struct {
	Consumer string   `json:"consumer"` // a registration, an unregistered class, or an entry point
	Site     string   `json:"site"`
	Service  string   `json:"service"` // that is asked for
	A        []string `json:"a"`       // what answered, as "TideSource [gauge] (GaugeTides)", in order
	B        []string `json:"b"`
}

// CostChange is a figure for each thousand scopes of a name, before and after.
type CostChange struct {
	Name   string      `json:"name"` // of the scopes
	Of     finding.Ref `json:"of"`
	Figure string      `json:"figure"` // "instances" or "own_ns"
	A      float64     `json:"a"`      // for a thousand scopes
	B      float64     `json:"b"`
	// Margin is half the width of the 95 % interval around B - A, by the normal approximation for the difference of two
	// means; -1 where it cannot be known.
	Margin float64 `json:"margin"`
	Sure   string  `json:"sure"` // "sure", "likely", "within chance", "not known"
}

// Part returns a part of a recording to compare: the streams of one version or host, or one half in time. How is "" for all
// of it.
func Part(src *Source, how string) (*Source, error) {
	switch how {
	case "":
		return src, nil
	case "first-half", "second-half":
		return half(src, how == "second-half"), nil
	}
	of := func(s *StreamSource) string { return s.Head.Version }
	wanted := strings.TrimPrefix(how, "version=")
	if host, ok := strings.CutPrefix(how, "host="); ok {
		wanted = host
		of = func(s *StreamSource) string {
			for n := range src.Result.Streams {
				if src.Result.Streams[n].Stream == s.Head.Stream {
					return src.Result.Streams[n].Host
				}
			}
			return ""
		}
	}
	part := &Source{Recording: src.Recording}
	var others []string
	var results []*engine.Result
	for n := range src.Streams {
		s := &src.Streams[n]
		if is := of(s); is != wanted {
			if !slices.Contains(others, is) {
				others = append(others, is)
			}
			continue
		}
		part.Streams = append(part.Streams, *s)
		if s.Result == nil {
			continue
		}
		one, err := s.Result()
		if err != nil {
			return nil, err
		}
		if one != nil {
			results = append(results, one)
		}
	}
	if len(part.Streams) == 0 {
		return nil, &NoPart{src.Recording, how, others}
	}
	part.Result = engine.Merge(results)
	return part, nil
}

// NoPart records that a recording has no such part.
type NoPart struct {
	Recording, Part string
	Versions        []string
}

// Error returns which parts there are.
func (e *NoPart) Error() string {
	what := "versions"
	if strings.HasPrefix(e.Part, "host=") {
		what = "hosts"
	}
	return fmt.Sprintf("%s has no part %q; it has first-half, second-half, and the %s %s", e.Recording, e.Part, what, strings.Join(e.Versions, ", "))
}

// half makes a source of one half of the recording's time: its counts by the buckets that lie in it, and the findings
// that were seen in it.
func half(src *Source, second bool) *Source {
	whole := src.State()
	s := *whole
	n := len(s.Buckets.Closed)
	from, to := 0, (n+1)/2
	if second {
		from, to = to, n
	}
	sum := func(list []int64) (total int64) {
		for k := from; k < min(to, len(list)); k++ {
			total += list[k]
		}
		return total
	}
	s.Scopes = sum(s.Buckets.Closed)
	s.Registrations = slices.Clone(whole.Registrations)
	one := derive.Cost{Name: "all scopes", Scopes: s.Scopes}
	for _, r := range s.Buckets.Regs {
		if r.Reg < 0 {
			continue
		}
		reg := &s.Registrations[r.Reg]
		reg.Made, reg.OwnNS = sum(r.Made), sum(r.OwnNS)
		one.Regs = append(one.Regs, derive.CostReg{Reg: r.Reg, Made: reg.Made, OwnNS: reg.OwnNS, MadePer: derive.Unknown, OwnPer: derive.Unknown})
	}
	s.Costs = []derive.Cost{one}
	part := &Source{Recording: src.Recording, Streams: []StreamSource{{Head: &s}}}
	if src.Result != nil {
		only := *src.Result
		only.Findings = nil
		middle := clockAt(whole, int64(to)*s.Buckets.WidthNS)
		if second {
			middle = clockAt(whole, int64(from)*s.Buckets.WidthNS)
		}
		for _, f := range src.Result.Findings {
			// What follows from the registrations is as true of one half as of the other.
			timeless := !slices.ContainsFunc(f.Examples, func(e finding.Example) bool { return e.Scope != nil || len(e.Instances) > 0 })
			if timeless || second && f.Last >= middle || !second && f.First < middle {
				only.Findings = append(only.Findings, f)
			}
		}
		part.Result = &only
	}
	return part
}

// Compare answers: is it fixed, what is new, and what has changed with it? It lists so many of each part at most, those first that matter
// most; 0 is no limit.
func Compare(a, b *Source, partA, partB string, limit int) Comparison {
	c := Comparison{
		A: sideOf(a, partA), B: sideOf(b, partB), New: []*finding.Finding{}, Gone: []*finding.Finding{}, Still: []*finding.Finding{},
		Registrations: []RegChange{}, Verdicts: []VerdictChange{}, Answers: []AnswerChange{}, Costs: []CostChange{},
	}
	c.findings(a, b)
	c.registrations(a.State(), b.State())
	c.answers(a.State(), b.State())
	c.costs(a.State(), b.State())
	c.Totals = Totals{len(c.New), len(c.Gone), len(c.Still), len(c.Registrations), len(c.Verdicts), len(c.Answers), len(c.Costs)}
	c.New, c.Gone, c.Still = paged(c.New, limit, 0), paged(c.Gone, limit, 0), paged(c.Still, limit, 0)
	for _, list := range [][]*finding.Finding{c.New, c.Gone, c.Still} {
		for n := range list {
			list[n] = list[n].Brief()
		}
	}
	c.Registrations, c.Verdicts = paged(c.Registrations, limit, 0), paged(c.Verdicts, limit, 0)
	c.Answers, c.Costs = paged(c.Answers, limit, 0), paged(c.Costs, limit, 0)
	return c
}

func sideOf(s *Source, part string) Side {
	state := s.State()
	side := Side{Recording: s.Recording, Part: part, App: state.App, Version: state.Version, Scopes: state.Scopes}
	if s.Result != nil {
		side.Findings = len(s.Result.Findings)
	}
	return side
}

func (c *Comparison) findings(a, b *Source) {
	before, now := map[string]bool{}, map[string]bool{}
	list := func(s *Source) []*finding.Finding {
		if s.Result == nil {
			return nil
		}
		return s.Result.Findings
	}
	for _, f := range list(a) {
		before[f.ID] = true
	}
	for _, f := range list(b) {
		now[f.ID] = true
		if before[f.ID] {
			c.Still = append(c.Still, f)
		} else {
			c.New = append(c.New, f)
		}
	}
	for _, f := range list(a) {
		if !now[f.ID] {
			c.Gone = append(c.Gone, f)
		}
	}
}

// pairing matches registrations of two recordings: by service and key, then those that are the same in place or
// implementation first, the rest in order.
type pairID struct{ service, key string }

func byName(s *derive.State) (map[pairID][]int, []pairID) {
	m := map[pairID][]int{}
	var order []pairID
	for n := range s.Registrations {
		r := &s.Registrations[n]
		k := pairID{r.Service, fmt.Sprint(r.Key != nil, keyOf(r.Key))}
		if m[k] == nil {
			order = append(order, k)
		}
		m[k] = append(m[k], n)
	}
	return m, order
}

func (c *Comparison) registrations(a, b *derive.State) {
	before, now := structureOf(a), structureOf(b)
	as, order := byName(a)
	bs, more := byName(b)
	for _, k := range more {
		if as[k] == nil {
			order = append(order, k)
		}
	}
	for _, k := range order {
		left, right := slices.Clone(as[k]), slices.Clone(bs[k])
		pair := func(same func(x, y *derive.Registration) bool) {
			for i := 0; i < len(left); i++ {
				for j := range right {
					if x, y := left[i], right[j]; same(&a.Registrations[x], &b.Registrations[y]) {
						c.pair(before, now, x, y)
						left, right = slices.Delete(left, i, i+1), slices.Delete(right, j, j+1)
						i--
						break
					}
				}
			}
		}
		pair(func(x, y *derive.Registration) bool {
			return x.Impl == y.Impl && x.Lifetime == y.Lifetime && x.At == y.At
		})
		pair(func(x, y *derive.Registration) bool { return x.Impl == y.Impl })
		pair(func(*derive.Registration, *derive.Registration) bool { return true })
		for _, n := range left {
			c.Registrations = append(c.Registrations, RegChange{Change: "removed", Of: a.Registrations[n].Ref(), Fields: []Field{}})
		}
		for _, n := range right {
			c.Registrations = append(c.Registrations, RegChange{Change: "added", Of: b.Registrations[n].Ref(), Fields: []Field{}})
		}
	}
}

func (c *Comparison) pair(a, b *structure, x, y int) {
	before, now := &a.s.Registrations[x], &b.s.Registrations[y]
	fields := []Field{}
	differ := func(name, p, q string) {
		if p != q {
			fields = append(fields, Field{name, p, q})
		}
	}
	differ("lifetime", before.Lifetime, now.Lifetime)
	if before.Impl != "" && now.Impl != "" { // it may just not have been built this time
		differ("implementation", before.Impl, now.Impl)
	}
	differ("layers", a.around(x), b.around(y))
	differ("order", a.position(x), b.position(y))
	whyA, _ := a.answers(x)
	whyB, _ := b.answers(y)
	if (before.Answered == x) != (now.Answered == y) {
		differ("answers", whyA, whyB)
	}
	if len(fields) > 0 {
		c.Registrations = append(c.Registrations, RegChange{Change: "changed", Of: now.Ref(), Fields: fields})
	}
	if before.Verdict.As != now.Verdict.As && before.Verdict.As != derive.BehavedUnknown && now.Verdict.As != derive.BehavedUnknown {
		c.Verdicts = append(c.Verdicts, VerdictChange{Of: now.Ref(), A: before.Verdict, B: now.Verdict})
	}
}

// askedAs is which consumer requests which service where. The key is no part of it: it may be what has moved.
type askedAs struct{ consumer, site, service string }

// answersOf returns what answered each single request, by who asked.
func answersOf(s *derive.State) (map[askedAs][]string, []askedAs) {
	m := map[askedAs][]string{}
	var order []askedAs
	for n := range s.Handouts {
		h := &s.Handouts[n]
		if h.All || h.Asked.Service == "" || h.Given >= 0 && s.Registrations[h.Given].Internal {
			continue
		}
		a := askerOf(s, h)
		if a.Consumer == nil && a.Entry == "" {
			continue
		}
		k := askedAs{a.Who(), h.Site, h.Asked.Service}
		answer := finding.Ref{Service: h.Asked.Service, Key: h.Asked.Key}.Name()
		if ref := refAt(s, h.Given); ref != nil {
			answer = ref.Name()
		}
		if h.Impl != "" {
			answer += " (" + h.Impl + ")"
		}
		if m[k] == nil {
			order = append(order, k)
		}
		if !slices.Contains(m[k], answer) && len(m[k]) < maxAnswers {
			m[k] = append(m[k], answer)
		}
	}
	for _, list := range m {
		slices.Sort(list)
	}
	return m, order
}

// maxAnswers bounds how many answers of one consumer are compared.
const maxAnswers = 50

// answers adds the consumers whose answers have moved.
func (c *Comparison) answers(a, b *derive.State) {
	before, order := answersOf(a)
	now, _ := answersOf(b)
	for _, k := range order {
		if x, y := before[k], now[k]; y != nil && !slices.Equal(x, y) {
			c.Answers = append(c.Answers, AnswerChange{Consumer: k.consumer, Site: k.site, Service: k.service, A: x, B: y})
		}
	}
}

// around lists what lies around a registration, outermost first.
func (t *structure) around(n int) string {
	layers := []string{}
	for at := n; len(layers) < 32 && len(t.outer[at]) > 0; {
		at = t.outer[at][0]
		layers = append(layers, cmp.Or(t.s.Registrations[at].Impl, t.s.Registrations[at].Service))
	}
	slices.Reverse(layers)
	return strings.Join(layers, " around ")
}

// position returns which of several under one service and key it is.
func (t *structure) position(n int) string {
	r := &t.s.Registrations[n]
	all := t.named[asked{r.Service, keyOf(r.Key), r.Key != nil}]
	if len(all) < 2 {
		return "the only one"
	}
	return fmt.Sprintf("%d of %d", slices.Index(all, n)+1, len(all))
}

func (c *Comparison) costs(a, b *derive.State) {
	type id struct {
		name string
		reg  pairID
		impl string
	}
	type sample struct {
		made, own       float64
		madePer, ownPer derive.Spread
		ref             finding.Ref
	}
	collect := func(s *derive.State) (map[id]sample, []id, map[string]int64) {
		m, scopes := map[id]sample{}, map[string]int64{}
		var order []id
		for _, cost := range s.Costs {
			if cost.Scopes == 0 {
				continue
			}
			scopes[cost.Name] += cost.Scopes
			for _, r := range cost.Regs {
				if r.Reg < 0 {
					continue
				}
				reg := &s.Registrations[r.Reg]
				k := id{cost.Name, pairID{reg.Service, fmt.Sprint(reg.Key != nil, keyOf(reg.Key))}, reg.Impl}
				one, ok := m[k]
				if !ok {
					order = append(order, k)
				}
				one.made += float64(r.Made)
				one.own += float64(r.OwnNS)
				one.madePer.Merge(r.MadePer)
				one.ownPer.Merge(r.OwnPer)
				one.ref = reg.Ref()
				m[k] = one
			}
		}
		return m, order, scopes
	}
	as, order, scopesA := collect(a)
	bs, more, scopesB := collect(b)
	for _, k := range more {
		if _, ok := as[k]; !ok {
			order = append(order, k)
		}
	}
	for _, k := range order {
		na, nb := scopesA[k.name], scopesB[k.name]
		if na == 0 || nb == 0 {
			continue // scopes of this name were in one of them only: nothing to set side by side
		}
		x, y := as[k], bs[k]
		ref := y.ref
		if ref.Service == "" {
			ref = x.ref
		}
		for _, figure := range []string{"instances", "own_ns"} {
			sumA, sumB, perA, perB := x.made, y.made, x.madePer, y.madePer
			if figure == "own_ns" {
				sumA, sumB, perA, perB = x.own, y.own, x.ownPer, y.ownPer
			}
			one := CostChange{Name: k.name, Of: ref, Figure: figure, A: 1000 * sumA / float64(na), B: 1000 * sumB / float64(nb)}
			one.judge(perA.Variance(na)/float64(na) + perB.Variance(nb)/float64(nb))
			if one.A != one.B {
				c.Costs = append(c.Costs, one)
			}
		}
	}
	order2 := map[string]int{"sure": 0, "likely": 1, "not known": 2, "within chance": 3}
	slices.SortStableFunc(c.Costs, func(p, q CostChange) int {
		return cmp.Or(cmp.Compare(order2[p.Sure], order2[q.Sure]), cmp.Compare(q.Figure, p.Figure), cmp.Compare(math.Abs(q.B-q.A), math.Abs(p.B-p.A)))
	})
}

// judge returns how sure the difference is, from the variance of the difference of the two means: beyond 2.58 standard
// errors (99 %) it is sure, beyond 1.96 (95 %) likely.
func (c *CostChange) judge(variance float64) {
	if math.IsNaN(variance) {
		c.Margin, c.Sure = -1, "not known"
		return
	}
	se := 1000 * math.Sqrt(variance)
	c.Margin = 1.96 * se
	switch diff := math.Abs(c.B - c.A); {
	case diff > 2.58*se:
		c.Sure = "sure"
	case diff > 1.96*se:
		c.Sure = "likely"
	default:
		c.Sure = "within chance"
	}
}
