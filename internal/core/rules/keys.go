package rules

import (
	"cmp"
	"slices"
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/patterns"
)

// sortedKeys returns a map's keys in order, so that equal input gives equal output.
func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// keyed runs the key rules that follow from registrations and hand-outs: wrong-answer, shadowed, unasked and
// same-implementation.
type keyed struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	known *Shared
}

var wrongAnswerRule = Rule{
	ID: "keys/wrong-answer", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A single request with a key was answered by a registration of another key or of none, or one without a key by a keyed one.",
	Not: "What an alias or a further name explains; requests for all; a layer that is given what it wraps.",
	Tell: func(f *finding.Finding) {
		asked := f.Subject.Name()
		answer := list(f.Facts["answered_by"])
		f.Title = sentence("%s is asked for, and %s answers", asked, answer)
		f.Why = sentence("%s asked for %s and got an instance of %s%s.", count(f.Counts["instances"], "request", "requests"), asked, answer, implementedBy(f.Subject))
		f.Fix = sentence("Register what %s should mean, or ask for %s%s by its own key.", asked, answer, place(f.Subject))
	},
}

var shadowedRule = Rule{
	ID: "keys/shadowed", Severity: finding.Warning, Basis: finding.Declared,
	Doc:   "A registration can never answer, because another of the same service and key does.",
	Not:   "One that is wrapped, aliased or reached by a request for all; one that instances came from; containers that refuse duplicates.",
	Needs: ledger.SeesWith | ledger.SeesShared,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s%s never answers: %s does instead", name, implementedBy(f.Subject), orName(f))
		f.Why = sentence("Several registrations in one container have the name %s, and a request for it is answered by %s.", name, orName(f))
		f.Fix = sentence("Remove the registration of %s%s, or give it its own key.", name, place(f.Subject))
	},
}

// orName names what answers instead: with its place where the name alone is the subject's too.
func orName(f *finding.Finding) string {
	if len(f.Path) == 0 {
		return "another one"
	}
	other := f.Path[0]
	if impl := other.Impl(); impl == "" {
		return other.Name() + place(other)
	} else if impl == f.Subject.Impl() {
		return impl + place(other)
	} else {
		return impl
	}
}

var unaskedRule = Rule{
	ID: "keys/unasked", Severity: finding.Note, Basis: finding.Observed,
	Doc:   "No consumer asked for a keyed registration, while another key of its service was asked for.",
	Not:   "Aliases; what a request for all reaches.",
	Needs: ledger.SeesWith | ledger.SeesShared,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is never requested", name)
		f.Why = sentence("Other keys of %s were asked for in this recording, this one never.", f.Subject.Service)
		f.Fix = sentence("Remove %s%s, or request it where it is meant to be used.", name, place(f.Subject))
	},
}

var sameImplementationRule = Rule{
	ID: "keys/same-implementation", Severity: finding.Note, Basis: finding.Declared,
	Doc: "Two keys of one service in one container have the same implementation.",
	Not: "Aliases of each other; layers; values of basic types; implementations that are not known.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s and %s have the same implementation", f.Subject.Name(), names(f.Path))
		f.Why = sentence("Both are %s: requests under either key get the same implementation.", f.Subject.Impl())
		f.Fix = sentence("See whether one of them%s was meant to be another implementation, or make it an alias.", place(f.Subject))
	},
}

func (r *keyed) See(*ledger.Change) {}

// allAsked is from which containers all of a service were asked for.
type allAsked map[string][]*ledger.Container

func (a allAsked) add(service string, c *ledger.Container) {
	if list := a[service]; c != nil && len(list) < maxAll && !slices.Contains(list, c) {
		a[service] = append(list, c)
	}
}

// reach reports whether a request for all of a service reaches what is registered in container c.
func (a allAsked) reach(service string, c *ledger.Container) bool {
	return slices.ContainsFunc(a[service], func(from *ledger.Container) bool { return facts.Reaches(from, c) })
}

func (r *keyed) Judge() {
	g := r.facts.Answers()
	asked := map[*ledger.Registration]bool{} // what was handed out, or asked for under that name
	askedNames := map[ledger.Asked]bool{}
	askedKeys := map[string]bool{} // services of which some key was asked for
	all := allAsked{}
	proxied := map[*ledger.Registration]bool{} // what something looks up at each call
	for _, reg := range r.world.Registrations() {
		if reg.Proxy != nil {
			proxied[reg.Proxy] = true
		}
		for n := range reg.Needs {
			if reg.Needs[n].All {
				all.add(reg.Needs[n].Service, reg.Container)
			}
		}
	}
	for _, h := range r.facts.Handouts().All() {
		if !h.Known() {
			continue
		}
		a := h.Asks()
		if h.ForAll() {
			from := h.From
			if from == nil {
				from = h.Given.Container
			}
			all.add(a.Service, from)
			all.add(h.Given.Service, from)
		}
		asked[h.Given] = true
		if h.Via != nil {
			asked[h.Via] = true
		}
		if !askedNames[a] {
			askedNames[a] = true
			for _, reg := range g.All(a) {
				asked[reg] = true
			}
		}
		if h.Given.HasKey {
			askedKeys[h.Given.Service] = true
		}
		r.answered(g, h, a)
	}
	for _, reg := range r.world.Registrations() {
		if !reg.Known || reg.Internal {
			continue
		}
		r.shadowed(g, reg, all, proxied)
		if reg.HasKey && reg.Alias == nil && reg.FormOf == nil && !asked[reg] && !r.askedOtherwise(g, reg, asked) && askedKeys[reg.Service] && !all.reach(reg.Service, reg.Container) &&
			reg.Sees&(ledger.SeesWith|ledger.SeesShared) == ledger.SeesWith|ledger.SeesShared {
			r.out.Report(Occurrence{Rule: &unaskedRule, Subject: named(r.facts.Built(), reg), Line: reg.Line, T: reg.T}).Count("registrations", 1)
		}
	}
	r.same()
}

// askedOtherwise reports whether a consumer reached reg through an alias or a layer.
func (r *keyed) askedOtherwise(g *facts.Answers, reg *ledger.Registration, asked map[*ledger.Registration]bool) bool {
	for _, a := range g.Aliases(reg) {
		if asked[a] {
			return true
		}
	}
	return len(g.Wrappers(reg)) > 0
}

// answered checks one kind of hand-out for the wrong answer.
func (r *keyed) answered(g *facts.Answers, h *facts.Handout, a ledger.Asked) {
	if h.ForAll() || h.Given.Internal || !h.Said() {
		return
	}
	if by := h.By(); by != nil && by.Inner() != nil && by.Inner() == h.Given.Real() {
		return
	}
	if answers(g, h.Given, a) || h.Via != nil && answers(g, h.Via, a) {
		return
	}
	// Without a key, anything unkeyed answers; with one, it has to be that key.
	if a.HasKey == h.Given.HasKey && a.Key == h.Given.Key {
		return
	}
	subject := finding.Ref{
		Service: a.Service, Implementation: finding.Text(h.Impl()), At: finding.Text(h.Given.At), Lifetime: string(h.Given.Lifetime),
	}
	if a.HasKey {
		key := a.Key
		subject.Key = &key
	}
	found := reportHandout(h, r.out, Occurrence{Rule: &wrongAnswerRule, Subject: subject})
	found.Fact("answered_by", h.Given.Ref("").Name())
	if who := who(r.facts.Built(), h); who != nil {
		found.Fact("asked_by", who.Name())
	}
}

// answers reports whether reg, one of its further names, an alias of it or what it wraps has the name a.
func answers(g *facts.Answers, reg *ledger.Registration, a ledger.Asked) bool {
	for n := 0; reg != nil && n < maxLayers; n++ {
		if g.Uses(reg, a) {
			return true
		}
		reg = reg.Inner()
	}
	return false
}

// maxLayers bounds how far a chain of layers is followed.
const maxLayers = 32

func (r *keyed) shadowed(g *facts.Answers, reg *ledger.Registration, all allAsked, proxied map[*ledger.Registration]bool) {
	if r.known.unwrapped.around(r.world, g, r.known)[reg] != nil {
		return // layers/unwrapped reports the one that should wrap it
	}
	if reg.Local || reg.In != nil || reg.Template != 0 || reg.FormOf != nil || reg.Made > 0 || reg.Container.Duplicates == "error" || len(g.Wrappers(reg)) > 0 || len(g.Aliases(reg)) > 0 ||
		reg.Sees&(ledger.SeesWith|ledger.SeesShared) != ledger.SeesWith|ledger.SeesShared {
		return
	}
	if proxied[reg] {
		return
	}
	var winner *ledger.Registration
	for _, name := range reg.Names() {
		if all.reach(name.Service, reg.Container) {
			return
		}
		w := g.Answer(reg.Container, name)
		if w == nil || w == reg || w.Container != reg.Container || w.Inner() == reg {
			return
		}
		if winner == nil {
			winner = w
		}
	}
	if reg.Alias != nil && reg.Real() == winner.Real() {
		return
	}
	o := Occurrence{Rule: &shadowedRule, Severity: finding.Warning, Subject: named(r.facts.Built(), reg), Path: []finding.Ref{named(r.facts.Built(), winner.Real())}, Line: reg.Line, T: reg.T}
	if a, b := r.facts.Built().Impl(reg), r.facts.Built().Impl(winner.Real()); a != "" && a == b {
		o.Severity = finding.Note
	}
	r.out.Report(o).Count("registrations", 1)
}

// same looks for keys of one service with one implementation.
func (r *keyed) same() {
	type group struct {
		container *ledger.Container
		service   string
		impl      string
	}
	first := map[group]*ledger.Registration{}
	for _, reg := range r.world.Registrations() {
		impl := r.facts.Built().Impl(reg)
		if !reg.Known || reg.Internal || !reg.HasKey || reg.Alias != nil || reg.Proxy != nil || impl == "" || basic(impl) || r.facts.Layers().IsLayer(reg) {
			continue
		}
		g := group{reg.Container, reg.Service, impl}
		one := first[g]
		if one == nil {
			first[g] = reg
			continue
		}
		if r.facts.Built().ByFactory(one) && r.facts.Built().ByFactory(reg) {
			continue // what two factories build differs in more than its type
		}
		if one.Key != reg.Key && !related(one, reg) {
			r.out.Report(Occurrence{
				Rule: &sameImplementationRule, Subject: one.Ref(impl), Path: []finding.Ref{reg.Ref(impl)}, Line: reg.Line, T: reg.T,
			}).Count("registrations", 2)
		}
	}
}

// basic reports whether an implementation is a type of plain values, which are not shared.
func basic(impl string) bool {
	impl = strings.TrimLeft(impl, "*&?")
	for _, prefix := range []string{"java.lang.", "kotlin.", "System."} {
		impl = strings.TrimPrefix(impl, prefix)
	}
	switch strings.ToLower(impl) {
	case "string", "str", "bool", "boolean", "byte", "[]byte", "bytes", "char", "character", "rune", "int", "integer", "int8", "int16", "int32", "int64",
		"uint", "uint8", "uint16", "uint32", "uint64", "uintptr", "long", "short", "float", "float32", "float64", "double", "decimal", "number", "bigint",
		"symbol", "time.duration", "time.time", "undefined", "null", "object":
		return true
	}
	return false
}

// nearest returns at most most of the names in list that are like one, the nearest first: the same but for case and
// spaces, then by edit distance. Names that differ in more than a third of the letters are not like it; where all is set,
// they follow.
func nearest(to string, list []string, most int, all bool) []string {
	type ranked struct {
		name string
		rank int
	}
	plain := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), "")) }
	lower, bare := strings.ToLower(to), plain(to)
	var near []ranked
	seen := map[string]bool{}
	for _, s := range list {
		if seen[s] {
			continue
		}
		seen[s] = true
		far := max(2, len(lower)/3)
		switch {
		case strings.EqualFold(s, to):
			near = append(near, ranked{s, 0})
		case plain(s) == bare:
			near = append(near, ranked{s, 1})
		case all:
			near = append(near, ranked{s, 2 + patterns.Distance(strings.ToLower(s), lower)})
		case len(s) <= len(to)+far && len(to) <= len(s)+far:
			if d := patterns.Distance(strings.ToLower(s), lower); d <= far {
				near = append(near, ranked{s, 2 + d})
			}
		}
	}
	slices.SortFunc(near, func(a, b ranked) int { return cmp.Or(cmp.Compare(a.rank, b.rank), strings.Compare(a.name, b.name)) })
	var names []string
	for _, one := range near[:min(len(near), most)] {
		names = append(names, one.name)
	}
	return names
}
