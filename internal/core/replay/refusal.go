package replay

import (
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// Refusal is a combination of lifetimes that a container which validates them refuses to build: a registration that lives as long as
// its container needs a scoped one, directly or through transients.
type Refusal struct {
	Path []finding.Ref `json:"path"` // from the longer-lived one to the scoped one
}

// The bounds of what is searched for.
const (
	maxRefusals     = 100
	maxRefusalSteps = 1_000_000
)

// refusals adds what would be refused then and is not now.
func (a *Answer) refusals(now, then *derive.State) {
	before := map[[2]identity]bool{}
	for _, path := range refusedIn(now) {
		before[ends(now, path)] = true
	}
	for _, path := range refusedIn(then) {
		if before[ends(then, path)] || len(a.Refused) == maxRefusals {
			continue
		}
		one := Refusal{}
		for _, n := range path {
			one.Path = append(one.Path, then.Registrations[n].Ref())
		}
		a.Refused = append(a.Refused, one)
	}
}

func ends(s *derive.State, path []int) [2]identity {
	return [2]identity{identityOf(&s.Registrations[path[0]]), identityOf(&s.Registrations[path[len(path)-1]])}
}

// refusedIn returns the shortest path for each pair of a longer-lived registration and a scoped one that it would be built with.
func refusedIn(s *derive.State) (paths [][]int) {
	needs := needed(s)
	steps := 0
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if !long(r.Lifetime) || r.Alias >= 0 || r.Proxy >= 0 {
			continue
		}
		from := map[int]int{n: derive.None}
		for queue := []int{n}; len(queue) > 0 && steps < maxRefusalSteps; queue = queue[1:] {
			at := queue[0]
			for _, to := range needs[at] {
				steps++
				if _, seen := from[to]; seen || s.Registrations[to].Proxy >= 0 {
					continue
				}
				from[to] = at
				switch s.Registrations[to].Lifetime {
				case Scoped:
					path := []int{}
					for p := to; p >= 0; p = from[p] {
						path = append(path, p)
					}
					slices.Reverse(path)
					paths = append(paths, path)
				case Transient:
					queue = append(queue, to)
				}
			}
		}
	}
	return paths
}

func long(lifetime string) bool {
	return lifetime == Singleton || lifetime == PerConsumer || lifetime == "external"
}

// needed returns which registrations each one is built with: what it wraps, and what answers its needs by constructor.
func needed(s *derive.State) [][]int {
	type name struct {
		service, key string
		keyed        bool
	}
	nameOf := func(service string, key *string) name {
		if key == nil {
			return name{service: service}
		}
		return name{service, *key, true}
	}
	answer := map[name]int{}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		for _, also := range append([]derive.Name{{Service: r.Service, Key: r.Key}}, r.Also...) {
			k := nameOf(also.Service, also.Key)
			if _, known := answer[k]; r.Answered >= 0 && (!known || r.Answered == n) {
				answer[k] = r.Answered
			}
		}
	}
	real := func(n int) int {
		for range 16 {
			if s.Registrations[n].Alias < 0 {
				break
			}
			n = s.Registrations[n].Alias
		}
		return n
	}
	out := make([][]int, len(s.Registrations))
	for n := range s.Registrations {
		r := &s.Registrations[n]
		if r.Wraps >= 0 {
			out[n] = append(out[n], real(r.Wraps))
		}
		for _, need := range r.Needs {
			own := r.Wraps >= 0 && need.Service == r.Service
			if to, ok := answer[nameOf(need.Service, need.Key)]; ok && !need.Lazy && !need.All && !own && need.How == "constructor" && real(to) != n {
				out[n] = append(out[n], real(to))
			}
		}
	}
	return out
}
