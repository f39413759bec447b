package replay

import (
	"cmp"
	"context"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/patterns"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
)

// ProposalsFormat names the shape of Proposals.
const ProposalsFormat = "lantern-proposals/1"

// Proposals are changes that would save construction time, or end findings, without any new finding.
type Proposals struct {
	Format    string     `json:"format"`
	Recording string     `json:"recording"`
	Proposals []Proposal `json:"proposals"` // the best first
	Tried     int        `json:"tried"`     // changes that were played, these among them
}

// Proposal is one of them.
type Proposal struct {
	Changes      []Changed          `json:"changes"` // together; more than one where layers change with what they wrap
	Instances    Counts             `json:"instances"`
	Construction Counts             `json:"construction_ns"`
	Go           []*finding.Finding `json:"go"`     // findings that would not be any more
	Longer       bool               `json:"longer"` // instances would live longer, and be shared: their code has to bear that
}

// maxTried bounds how many changes are played to find proposals: each takes as long as analysing the recording.
const maxTried = 8

// maxTogether is how many layers change with what they wrap.
const maxTogether = 32

// few is how much construction time a change has to save to be worth proposing, as a share of all of it.
const few = 0.02

// Propose finds changes that are worth making: it plays the ones that could save most, and those that could end findings.
func Propose(ctx context.Context, src *views.Source, set rules.Settings, progress func(float64)) (*Proposals, error) {
	s := src.State()
	p := &Proposals{Format: ProposalsFormat, Recording: src.Recording, Proposals: []Proposal{}}
	tries := candidates(s, src.Result.Findings)
	for n, texts := range tries {
		settings, err := parseAll(texts)
		if err != nil {
			continue // a name that cannot be written
		}
		a, err := WhatIf(ctx, src, settings, set, func(done float64) {
			if progress != nil {
				progress((float64(n) + done) / float64(len(tries)))
			}
		})
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue // it means several registrations, or none: there is nothing to type
		}
		p.Tried++
		saves := a.Construction.Now - a.Construction.Then
		if len(a.Appear) > 0 || len(a.Go) == 0 && float64(saves) < few*float64(a.Construction.Now) {
			continue
		}
		p.Proposals = append(p.Proposals, Proposal{a.Changes, a.Instances, a.Construction, a.Go, a.Changes[0].longer()})
	}
	slices.SortStableFunc(p.Proposals, func(a, b Proposal) int {
		// Of two that end the same, the one that shares nothing more needs no second thought.
		shares := 0
		if len(a.Go) > 0 && a.Longer != b.Longer {
			shares = map[bool]int{true: 1, false: -1}[a.Longer]
		}
		return cmp.Or(cmp.Compare(worst(b.Go), worst(a.Go)), cmp.Compare(len(b.Go), len(a.Go)), shares, cmp.Compare(b.Construction.Now-b.Construction.Then, a.Construction.Now-a.Construction.Then))
	})
	return p, nil
}

func parseAll(texts []string) ([]Setting, error) {
	var out []Setting
	for _, text := range texts {
		one, err := ParseSetting(text)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// longer reports whether instances live longer than they did.
func (c *Changed) longer() bool {
	return c.To == Singleton || c.To == PerConsumer && c.From != Singleton || c.To == Scoped && c.From == Transient
}

func worst(list []*finding.Finding) finding.Severity {
	var w finding.Severity
	for _, f := range list {
		w = max(w, f.Severity)
	}
	return w
}

// candidates are the changes that could be worth it, the most promising first.
func candidates(s *derive.State, findings []*finding.Finding) [][]string {
	type try struct {
		texts []string
		ends  int
		saves int64
	}
	var tries []try
	var names []string
	seen := map[string]bool{}
	wrappers := map[int][]int{}
	about := map[named]int{} // findings, by the registration that they are of or that keeps
	for n := range s.Registrations {
		r := &s.Registrations[n]
		for _, name := range []string{r.Service, r.Impl} {
			if name != "" && !seen[name] {
				seen[name] = true
				names = append(names, name)
			}
		}
		if r.Wraps >= 0 {
			wrappers[r.Wraps] = append(wrappers[r.Wraps], n)
		}
	}
	for _, f := range findings {
		about[named{f.Subject.Service, f.Subject.Impl()}]++
		if h := f.Holder; h != nil && (h.Service != f.Subject.Service || h.Impl() != f.Subject.Impl()) {
			about[named{h.Service, h.Impl()}]++
		}
	}
	perScope := savedByScopes(s)
	short := patterns.Shorten(names)
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if r.Internal || r.Alias != derive.None || r.Proxy != derive.None || r.Made == 0 {
			continue
		}
		// Layers that live as long as what they wrap change with it.
		together := []int{n}
		for k := 0; k < len(together); k++ {
			for _, m := range wrappers[together[k]] {
				if s.Registrations[m].Lifetime == r.Lifetime && !slices.Contains(together, m) && len(together) < maxTogether {
					together = append(together, m)
				}
			}
		}
		for _, to := range []string{Singleton, Scoped, Transient} {
			one := try{}
			for _, m := range together {
				o := &s.Registrations[m]
				name := short[cmp.Or(o.Impl, o.Service)]
				if o.Key != nil {
					name += "[" + *o.Key + "]"
				}
				one.texts = append(one.texts, name+"="+to)
			}
			switch {
			case to == r.Lifetime || r.Lifetime == "external" || r.Lifetime == PerConsumer || r.Lifetime == "":
				continue
			case to == Singleton:
				one.saves = r.OwnNS - r.OwnNS/r.Made
			case to == Scoped && r.Lifetime == Transient:
				one.saves = perScope[n]
			}
			if to != Singleton { // what keeps too long is mended by living shorter
				one.ends = about[named{r.Service, r.Impl}]
			}
			if one.ends > 0 || one.saves > 0 {
				tries = append(tries, one)
			}
		}
	}
	slices.SortStableFunc(tries, func(a, b try) int { return cmp.Or(cmp.Compare(b.saves, a.saves), cmp.Compare(b.ends, a.ends)) })
	var out [][]string
	for k, t := range tries { // half of them for what they save, half for what they end
		if k < maxTried/2 {
			out = append(out, t.texts)
		}
	}
	slices.SortStableFunc(tries, func(a, b try) int { return cmp.Or(cmp.Compare(b.ends, a.ends), cmp.Compare(b.saves, a.saves)) })
	for _, t := range tries {
		if len(out) < maxTried && !slices.ContainsFunc(out, func(o []string) bool { return slices.Equal(o, t.texts) }) {
			out = append(out, t.texts)
		}
	}
	return out
}

// savedByScopes is about what one instance in each scope would save of each transient registration's construction.
func savedByScopes(s *derive.State) map[int]int64 {
	saves := map[int]int64{}
	for _, c := range s.Costs {
		for k := range c.Regs {
			if r := &c.Regs[k]; r.Made > r.Scopes && c.Kind != "root" {
				saves[r.Reg] += r.OwnNS / r.Made * (r.Made - r.Scopes)
			}
		}
	}
	return saves
}
