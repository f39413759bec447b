package views

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// Graph is the wiring of a recording.
type Graph struct {
	Recording string      `json:"recording"`
	Nodes     []GraphNode `json:"nodes"`
	Edges     []GraphEdge `json:"edges"`
}

// GraphNode is one registration.
type GraphNode struct {
	ID       int         `json:"id"`
	Ref      finding.Ref `json:"registration"`
	Module   string      `json:"module"` // see Modules
	Internal bool        `json:"internal"`
	Made     int64       `json:"made"`
}

// GraphEdge records that one registration is given another.
type GraphEdge struct {
	From          int    `json:"from"`
	To            int    `json:"to"`
	How           string `json:"how"`
	Count         int64  `json:"count"`           // hand-outs; 0 if known by the registration only
	Wraps         bool   `json:"wraps"`           // From is a layer around To
	LongToShorter bool   `json:"long_to_shorter"` // what lives longer is given what lives shorter
	Lines         int    `json:"lines"`           // between registrations that it represents: 1 in a whole graph
	Wrong         int    `json:"wrong"`           // those of them from longer- to shorter-lived
}

// Wiring answers: what is built from what, and where does that go from longer- to shorter-lived? A filter keeps the
// registrations it lets through and those next to them.
func Wiring(src *Source, f Filter) Graph {
	s := src.State()
	g := Graph{Recording: src.Recording, Nodes: []GraphNode{}, Edges: []GraphEdge{}}
	type ends struct{ from, to int }
	at := map[ends]int{}
	edge := func(from, to int, how string, count int64) {
		if from < 0 || to < 0 {
			return
		}
		k := ends{from, to}
		n, ok := at[k]
		if !ok {
			n = len(g.Edges)
			at[k] = n
			a, b := &s.Registrations[from], &s.Registrations[to]
			e := GraphEdge{From: from, To: to, How: how, Wraps: a.Wraps == to, Lines: 1}
			if b.Proxy < 0 && rank(b.Lifetime) > 0 && rank(a.Lifetime) > rank(b.Lifetime) {
				e.LongToShorter, e.Wrong = true, 1
			}
			g.Edges = append(g.Edges, e)
		}
		g.Edges[n].Count += count
	}
	for n := range s.Handouts {
		h := &s.Handouts[n]
		edge(h.Consumer, h.Given, h.How, h.Count)
	}
	answer := map[asked]int{}
	for n := range s.Registrations {
		r := &s.Registrations[n]
		for _, name := range append([]derive.Name{{Service: r.Service, Key: r.Key}}, r.Also...) {
			k := askedOf(name)
			if _, ok := answer[k]; !ok || r.Answered == n {
				answer[k] = max(r.Answered, derive.None)
			}
		}
	}
	for n := range s.Registrations {
		for _, need := range s.Registrations[n].Needs {
			if to, ok := answer[askedOf(derive.Name{Service: need.Service, Key: need.Key})]; ok && !need.All && to != n {
				edge(n, to, need.How, 0)
			}
		}
		edge(n, s.Registrations[n].Wraps, "constructor", 0)
	}
	keep := make([]bool, len(s.Registrations))
	for n := range s.Registrations {
		keep[n] = f.lets(&s.Registrations[n])
	}
	if f.Service != "" || f.Lifetime != "" || f.Module != "" {
		near := append([]bool{}, keep...)
		for _, e := range g.Edges {
			near[e.From] = near[e.From] || keep[e.To]
			near[e.To] = near[e.To] || keep[e.From]
		}
		keep = near
	}
	edges := g.Edges
	g.Edges = []GraphEdge{}
	for _, e := range edges {
		if keep[e.From] && keep[e.To] {
			g.Edges = append(g.Edges, e)
		}
	}
	modules := modulesOf(s)
	for n := range s.Registrations {
		if keep[n] {
			r := &s.Registrations[n]
			g.Nodes = append(g.Nodes, GraphNode{ID: n, Ref: r.Ref(), Module: modules[n], Internal: r.Internal, Made: r.Made})
		}
	}
	return g
}

// Map is a part of the wiring that people can read: modules, and the registrations of the open ones.
type Map struct {
	Recording string      `json:"recording"`
	Modules   []MapModule `json:"modules"`
	Nodes     []GraphNode `json:"nodes"`
	Edges     []GraphEdge `json:"edges"`    // between nodes and modules, by their ids
	Total     int         `json:"total"`    // registrations that the filter lets through
	LeftOut   int         `json:"left_out"` // requested registrations beyond the limit
}

// MapModule is a module that is closed: one node for all of its registrations.
type MapModule struct {
	ID            int            `json:"id"` // below 0, so that it differs from those of registrations
	Name          string         `json:"name"`
	Registrations int            `json:"registrations"`
	Lifetimes     map[string]int `json:"lifetimes"` // registrations by lifetime
	Lines         int            `json:"lines"`     // between its own registrations
	Wrong         int            `json:"wrong"`     // those of them from longer- to shorter-lived
}

// MapQuery is which part of the wiring is shown. Without a filter, open modules or a registration, these are the modules; all
// registrations where there are few.
type MapQuery struct {
	Filter        // registrations that it lets through are shown with their neighbours; its limit bounds the nodes
	Open   string // this module's parts are shown, or its registrations where they are few, and the modules next to them
	Near   int    // this registration is shown with its neighbours; -1: none
}

const (
	// FewRegistrations is how many are shown one by one without being asked for.
	FewRegistrations = 60
	// MaxMapNodes bounds a map: as many as can be laid out while a reader waits.
	MaxMapNodes = 300
	// maxModules bounds how many modules a map begins with, and an open one has: packages are put together until there are no more.
	maxModules = 24
)

// WiringMap answers what Wiring does, a readable part at a time.
func WiringMap(src *Source, q MapQuery) Map {
	s := src.State()
	whole := Wiring(src, Filter{})
	finest := modulesOf(s)
	modules := openedModules(finest, q.Open)
	m := Map{Recording: src.Recording, Modules: []MapModule{}, Nodes: []GraphNode{}, Edges: []GraphEdge{}}
	degree := make([]int, len(s.Registrations))
	for _, e := range whole.Edges {
		degree[e.From] += 1 + 1000*e.Wrong // what is wrong is shown before what is merely busy
		degree[e.To] += 1 + 1000*e.Wrong
	}
	lets := func(n int) bool { return q.lets(&s.Registrations[n]) }
	for n := range s.Registrations {
		if lets(n) {
			m.Total++
		}
	}
	chosen, near, closed := mapped(s, &q, finest, whole.Edges, m.Total)
	most := MaxMapNodes
	if q.Limit > 0 {
		most = min(most, q.Limit)
	}
	byDegree := func(a, b int) int { return cmp.Or(cmp.Compare(degree[b], degree[a]), cmp.Compare(a, b)) }
	slices.SortFunc(chosen, byDegree)
	slices.SortFunc(near, byDegree)
	all := slices.Concat(chosen, near)
	m.LeftOut = max(0, len(all)-most)
	all = all[:min(len(all), most)]
	slices.Sort(all)
	shown := map[int]int{} // registrations → ids in the map
	for _, n := range all {
		shown[n] = n
		m.Nodes = append(m.Nodes, whole.Nodes[n])
	}
	if closed {
		m.close(s, modules, shown, most)
	}
	lines := whole.Edges
	if q.Near >= 0 { // what its neighbours have to do with one another is another question
		lines = slices.DeleteFunc(slices.Clone(lines), func(e GraphEdge) bool { return e.From != q.Near && e.To != q.Near })
	}
	m.connect(lines, shown, func(id int) bool {
		return q.Open == "" || id >= 0 || within(m.Modules[-1-id].Name, q.Open)
	})
	return m
}

// mapped returns the registrations that were asked for, those next to them, and whether the modules of all others are shown.
func mapped(s *derive.State, q *MapQuery, finest []string, edges []GraphEdge, total int) (chosen, near []int, closed bool) {
	is := make([]bool, len(s.Registrations))
	add := func(n int) {
		is[n] = true
		chosen = append(chosen, n)
	}
	switch {
	case q.Near >= 0 && q.Near < len(is):
		add(q.Near)
	case q.Open != "":
		parts := map[string]bool{}
		for n, name := range finest {
			if within(name, q.Open) && q.lets(&s.Registrations[n]) {
				add(n)
				parts[name] = true
			}
		}
		if len(parts) > 1 && len(chosen) > FewRegistrations {
			chosen = nil // its parts are shown instead
		}
		return chosen, nil, true
	case q.Service != "" || q.Lifetime != "" || q.Module != "":
		for n := range s.Registrations {
			if q.lets(&s.Registrations[n]) {
				add(n)
			}
		}
	case total <= FewRegistrations || !slices.ContainsFunc(finest, func(name string) bool { return name != finest[0] }):
		for n := range s.Registrations {
			add(n)
		}
		return chosen, nil, false
	default:
		return nil, nil, true
	}
	beside := make([]bool, len(is))
	next := func(n int) {
		if !is[n] && !beside[n] {
			beside[n] = true
			near = append(near, n)
		}
	}
	for _, e := range edges {
		if is[e.From] {
			next(e.To)
		}
		if is[e.To] {
			next(e.From)
		}
	}
	return chosen, near, false
}

// close adds the modules of all registrations that are not shown, and has them stand for these.
func (m *Map) close(s *derive.State, modules []string, shown map[int]int, most int) {
	open := map[string]bool{}
	for n := range shown {
		open[modules[n]] = true
	}
	at := map[string]int{}
	for n, name := range modules {
		if open[name] { // more of an open module than is shown
			continue
		}
		k, ok := at[name]
		if !ok {
			if len(m.Nodes)+len(m.Modules) >= most {
				continue
			}
			k = len(m.Modules)
			at[name] = k
			m.Modules = append(m.Modules, MapModule{ID: -1 - k, Name: name, Lifetimes: map[string]int{}})
		}
		one := &m.Modules[k]
		one.Registrations++
		one.Lifetimes[s.Registrations[n].Lifetime]++
		shown[n] = one.ID
	}
}

// connect adds the lines, those between the same two added up, that begin or end in the part that is shown. Modules outside of it that have
// no such line are left out.
func (m *Map) connect(edges []GraphEdge, shown map[int]int, inside func(id int) bool) {
	type ends struct{ from, to int }
	at := map[ends]int{}
	for _, e := range edges {
		from, ok := shown[e.From]
		to, ok2 := shown[e.To]
		if !ok || !ok2 || !inside(from) && !inside(to) {
			continue
		}
		if from == to { // inside a closed module
			one := &m.Modules[-1-from]
			one.Lines, one.Wrong = one.Lines+1, one.Wrong+e.Wrong
			continue
		}
		n, ok := at[ends{from, to}]
		if !ok {
			at[ends{from, to}] = len(m.Edges)
			e.From, e.To = from, to
			e.Wraps = e.Wraps && from >= 0 && to >= 0
			m.Edges = append(m.Edges, e)
			continue
		}
		sum := &m.Edges[n]
		sum.Count, sum.Lines, sum.Wrong = sum.Count+e.Count, sum.Lines+e.Lines, sum.Wrong+e.Wrong
		sum.LongToShorter = sum.Wrong > 0
	}
	linked := map[int]bool{}
	for _, e := range m.Edges {
		linked[e.From], linked[e.To] = true, true
	}
	keep := make([]MapModule, 0, len(m.Modules))
	for _, one := range m.Modules {
		if linked[one.ID] || inside(one.ID) {
			keep = append(keep, one)
		}
	}
	m.Modules = keep
}

// noModule is the module of registrations that name none and have no package or folder.
const noModule = "without a module"

// modulesOf returns the module of each registration: the declared one, else the package of its service's or implementation's name, else the
// folder of its place.
func modulesOf(s *derive.State) []string {
	list := make([]string, len(s.Registrations))
	for n := range s.Registrations {
		r := &s.Registrations[n]
		list[n] = shallow(cmp.Or(r.Module, packageOf(r.Service), packageOf(r.Impl), folderOf(r.At), noModule))
	}
	return list
}

// maxModuleParts bounds the parts of a module's name: modules are merged part by part.
const maxModuleParts = 16

// shallow returns a module's name without the parts beyond maxModuleParts.
func shallow(name string) string {
	parts := 0
	for at, c := range name {
		if strings.ContainsRune(separators, c) {
			if parts++; parts == maxModuleParts {
				return name[:at]
			}
		}
	}
	return name
}

// within reports whether a module is another one or lies in it.
func within(module, of string) bool {
	rest, ok := strings.CutPrefix(module, of)
	return ok && (rest == "" || strings.ContainsAny(rest[:1], separators))
}

// openedModules puts modules together by their parents until there are no more than maxModules, those of the open one apart from the others.
func openedModules(finest []string, open string) []string {
	list := make([]string, len(finest))
	var inside, outside []int
	for n, name := range finest {
		if open != "" && within(name, open) {
			inside = append(inside, n)
		} else {
			outside = append(outside, n)
		}
	}
	for _, part := range [][]int{inside, outside} {
		names := make([]string, len(part))
		for k, n := range part {
			names[k] = finest[n]
		}
		for k, name := range fewer(names) {
			list[part[k]] = name
		}
	}
	return list
}

// fewer replaces the deepest modules by their parents until there are no more than maxModules.
func fewer(list []string) []string {
	seen := map[string]bool{}
	for _, name := range list {
		seen[name] = true
	}
	for len(seen) > maxModules {
		deepest := 0
		for name := range seen {
			deepest = max(deepest, depthOf(name))
		}
		if deepest == 0 {
			return list
		}
		shorter := map[string]string{}
		for name := range maps.Clone(seen) {
			if depthOf(name) == deepest {
				shorter[name] = name[:strings.LastIndexAny(name, separators)]
				delete(seen, name)
				seen[shorter[name]] = true
			}
		}
		for n := range list {
			if name, ok := shorter[list[n]]; ok {
				list[n] = name
			}
		}
	}
	return list
}

// separators stand between the parts of a name: packages, namespaces, folders.
const separators = `./\:`

func depthOf(module string) (n int) {
	for _, c := range strings.TrimLeft(module, separators) {
		if strings.ContainsRune(separators, c) {
			n++
		}
	}
	return n
}

// packageOf returns what stands before a type's own name, "" where nothing does. What is in brackets belongs to the type.
func packageOf(name string) string {
	if at := strings.IndexAny(name, "[<( {"); at >= 0 {
		name = name[:at]
	}
	name = strings.TrimLeft(name, "*&?")
	at := strings.LastIndexAny(name, separators)
	if at <= 0 {
		return ""
	}
	return strings.TrimRight(name[:at], separators)
}

func folderOf(place string) string {
	at := strings.LastIndexAny(place, `/\`)
	return place[:max(0, at)]
}
