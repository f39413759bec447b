package views

import (
	"cmp"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// DisposalView is whether things are released.
type DisposalView struct {
	Recording string       `json:"recording"`
	WidthNS   int64        `json:"width_ns"` // of one step of a series
	Opened    []int64      `json:"opened"`   // scopes opened in each step
	Closed    []int64      `json:"closed"`   // scopes closed in each step
	Alive     []AliveRow   `json:"alive"`    // most alive first
	Total     int          `json:"total"`    // rows of Alive
	Open      []ScopeRow   `json:"open"`     // scopes open longest
	OpenCount int64        `json:"open_count"`
	Closings  []Closing    `json:"closings"` // the latest, newest first
	Shutdown  *Closing     `json:"shutdown"` // of the containers' roots; nil where nothing of it was seen
	Undone    []UndoneRow  `json:"undone"`   // what is not disposed, or will
	Seen      DisposalSeen `json:"seen"`
}

// DisposalSeen is what the recorder sees.
type DisposalSeen struct {
	Disposals bool `json:"disposals"`
}

// AliveRow is one registration over time.
type AliveRow struct {
	ID     int         `json:"id"`
	Of     finding.Ref `json:"of"`
	Series []int64     `json:"series"` // alive at the end of each step
	Peaks  []int64     `json:"peaks"`  // alive at once at any moment of each step
	Alive  int64       `json:"alive"`
	Most   int64       `json:"most"` // at once
	Made   int64       `json:"made"`
	// SlopePerThousand is by how many it grew for a thousand scopes, over the later half of them and without what the
	// shutdown released; nil if there were too few scopes.
	SlopePerThousand *float64 `json:"slope_per_thousand"`
	Bytes            int64    `json:"bytes"`
}

// Closing is what was disposed when one scope closed, in order.
type Closing struct {
	Stream int           `json:"stream"` // the number of its stream in the recording
	Scope  uint64        `json:"scope"`
	Name   string        `json:"name"`
	Kind   string        `json:"kind"`
	From   int64         `json:"from"` // ns since the recording's start
	TookNS int64         `json:"took_ns"`
	Steps  []ClosingStep `json:"steps"` // the first maxClosingSteps
	Total  int           `json:"total"` // steps
}

// maxClosingSteps bounds the steps of a closing that are shown.
const maxClosingSteps = 100

// ClosingStep is one disposal of a closing.
type ClosingStep struct {
	Thing
	At    int64  `json:"at"` // ns since the closing's first step
	NS    int64  `json:"ns"`
	State string `json:"state"` // "done", "begun" (and never done), "failed", "handed", "refused"
	By    string `json:"by"`
}

// UndoneRow is what ended, or is alive, without its disposal.
type UndoneRow struct {
	ID       int         `json:"id"`
	Of       finding.Ref `json:"of"`
	Disposer string      `json:"disposer"` // "container", "code" or "nobody"
	Ended    int64       `json:"ended"`    // instances whose home closed, or that were forgotten, without disposal
	Alive    int64       `json:"alive"`    // at home in the root and waiting for it
}

// maxClosings is how many closings are shown.
const maxClosings = 10

// Disposal answers: is it disposed, when, in which order, and what never is?
func Disposal(src *Source, f Filter) DisposalView {
	s := src.State()
	v := DisposalView{
		Recording: src.Recording, WidthNS: s.Buckets.WidthNS, Alive: []AliveRow{}, Open: []ScopeRow{}, OpenCount: s.OpenCount,
		Opened: append([]int64{}, s.Buckets.Opened...), Closed: append([]int64{}, s.Buckets.Closed...), Closings: []Closing{}, Undone: []UndoneRow{}, Seen: DisposalSeen{Disposals: s.DisposalSeen},
	}
	for _, series := range s.Buckets.Regs {
		if series.Reg < 0 || !f.lets(&s.Registrations[series.Reg]) || s.Registrations[series.Reg].Made == 0 {
			continue
		}
		v.Alive = append(v.Alive, aliveRow(s, series))
	}
	slices.SortStableFunc(v.Alive, func(a, b AliveRow) int {
		return cmp.Or(cmp.Compare(b.Alive, a.Alive), cmp.Compare(b.Most, a.Most))
	})
	v.Total = len(v.Alive)
	v.Alive = page(v.Alive, &f)
	for n := range src.Streams {
		for _, o := range src.Streams[n].Head.Open {
			if len(v.Open) < 20 {
				v.Open = append(v.Open, rowOf(&src.Streams[n], n, &o))
			}
		}
	}
	closings(src, &f, &v)
	waiting := map[int]int64{}
	for _, i := range s.Alive {
		if i.Reg >= 0 && i.Disposable && !i.Disposed {
			waiting[i.Reg]++
		}
	}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		disposer := cmp.Or(r.Disposer, "container")
		alive := waiting[n]
		// What waits for its container is in order while the container lives; afterwards nothing can dispose it.
		if disposer == "container" && !s.Ended {
			alive = 0
		}
		if f.lets(r) && r.Undisposed+alive > 0 {
			v.Undone = append(v.Undone, UndoneRow{ID: n, Of: r.Ref(), Disposer: disposer, Ended: r.Undisposed, Alive: alive})
		}
	}
	slices.SortStableFunc(v.Undone, func(a, b UndoneRow) int { return cmp.Compare(b.Ended+b.Alive, a.Ended+a.Alive) })
	return v
}

func aliveRow(s *derive.State, series derive.Series) AliveRow {
	r := &s.Registrations[series.Reg]
	row := AliveRow{ID: series.Reg, Of: r.Ref(), Alive: r.Made - r.Ended, Most: r.Most, Made: r.Made, Bytes: r.Bytes, Series: []int64{}, Peaks: append([]int64{}, series.Most...)}
	alive := int64(0)
	for n := range series.Made {
		alive += series.Made[n] - series.Ended[n]
		row.Series = append(row.Series, alive)
	}
	from, to, scopes := laterHalf(s)
	if scopes >= fewScopes {
		slope := float64(row.Series[to]-row.Series[from]) * 1000 / float64(scopes)
		row.SlopePerThousand = &slope
	}
	return row
}

// fewScopes is how many scopes a slope needs.
const fewScopes = 20

// laterHalf returns between the ends of which two steps the later half of the scopes closed, and how many these are.
func laterHalf(s *derive.State) (from, to int, scopes int64) {
	closed := s.Buckets.Closed
	all := int64(0)
	for n, c := range closed {
		if all += c; c > 0 {
			to = n
		}
	}
	// The step in which everything ended has the shutdown in it.
	if s.Ended && to == len(closed)-1 {
		all -= closed[to]
		to--
	}
	before := int64(0)
	for n := 0; n < to; n++ {
		if before += closed[n]; 2*before >= all {
			return n, to, all - before
		}
	}
	return 0, 0, 0
}

// closings groups the latest disposals by the scope they belong to.
func closings(src *Source, f *Filter, v *DisposalView) {
	s := src.State()
	type home struct {
		stream string
		id     uint64
		root   bool
	}
	streams := make(map[string]int, len(src.Streams))
	for n := range src.Streams {
		streams[src.Streams[n].Head.Stream] = n
	}
	homeOf := func(step *derive.Step) home { return home{step.Stream, step.Home, step.Root} }
	// The steps are in order: the homes of the last ones are those of the latest closings.
	latest := map[home]bool{}
	scopes, roots := 0, 0
	for n := len(s.Steps) - 1; n >= 0 && (scopes < maxClosings || roots == 0); n-- {
		step := &s.Steps[n]
		k := homeOf(step)
		if latest[k] || f.Name != "" && !holds(step.HomeName, f.Name) || step.Root && roots == 1 || !step.Root && scopes == maxClosings {
			continue
		}
		latest[k] = true
		if step.Root {
			roots++
		} else {
			scopes++
		}
	}
	at := map[home]int{}
	var list []Closing
	var isRoot []bool
	for n := range s.Steps {
		step := &s.Steps[n]
		k := homeOf(step)
		if !latest[k] {
			continue
		}
		n, ok := at[k]
		if !ok {
			n = len(list)
			at[k] = n
			list = append(list, Closing{Stream: streams[step.Stream], Scope: step.Home, Name: step.HomeName, Kind: step.HomeKind, From: step.T - step.NS, Steps: []ClosingStep{}})
			isRoot = append(isRoot, step.Root)
		}
		c := &list[n]
		thing := Thing{Instance: step.Instance, Mark: finding.Mark(step.Instance), Reg: step.Reg, Of: finding.Ref{Service: step.Impl, Implementation: finding.Text(step.Impl)}}
		if ref := refAt(s, step.Reg); ref != nil {
			thing.Of = *ref
		}
		// A disposal that is done takes the place of its beginning.
		if before := slices.IndexFunc(c.Steps, func(o ClosingStep) bool { return o.Instance == step.Instance && o.State == "begun" }); before >= 0 && step.State != "begun" {
			c.Steps[before].State, c.Steps[before].NS = step.State, max(step.NS, step.T-c.From-c.Steps[before].At)
		} else {
			c.Steps = append(c.Steps, ClosingStep{Thing: thing, At: step.T - step.NS - c.From, NS: step.NS, State: step.State, By: cmp.Or(step.By, "container")})
		}
		c.TookNS = max(c.TookNS, step.T-c.From)
	}
	for n := len(list) - 1; n >= 0; n-- {
		list[n].Total = len(list[n].Steps)
		list[n].Steps = list[n].Steps[:min(list[n].Total, maxClosingSteps)]
		switch {
		case isRoot[n]:
			if v.Shutdown == nil {
				v.Shutdown = &list[n]
			}
		case len(v.Closings) < maxClosings:
			v.Closings = append(v.Closings, list[n])
		}
	}
}
