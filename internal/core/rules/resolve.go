package rules

import (
	"hash/fnv"
	"slices"
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// failures adds up what could not be built, and decides at the end which rule each is: a missing key of a service that has
// registrations is keys/missing, whenever those came.
type failures struct {
	world *ledger.World
	facts facts.Granted `freeze:"-"`
	out   Reporter
	known *Shared
	seen  map[failure]*seenFailure
	list  []*seenFailure

	looked int               `freeze:"-"` // names compared in this judging
	alike  map[string]*alike `freeze:"-"` // by the service that is missing, in this judging
}

type failure struct {
	why, service, key string
	hasKey            bool
	asker             *ledger.Registration
	direct            string // the asker's implementation, where it has no registration
	entry             string // the entry point that asked
	cycle             string // a cycle is known by its members
}

type seenFailure struct {
	failure
	n, required int64 // required: not optional
	first, last int64
	line        int64
	scope       *ledger.Scope
	path        []string
	errors      []string // classes of exceptions
	places      []string // in the source, that asked

	keys *askedKeys // of a missing key: all that one asker asked for
}

// askedKeys are the keys of one service that one asker asked for and that are not registered. They may come from data, so that there
// are as many as requests.
type askedKeys struct {
	list   []*seenFailure  // the first ones, each counted apart
	hashes map[uint64]bool // of all of them, up to maxKeyHashes
	more   bool            // than hashes holds
}

// The bounds of what is retained of missing keys and of failures.
const (
	maxSeparateKeys = 5    // keys of one asker that make findings of their own
	maxKeyHashes    = 4096 // keys of one asker that are distinguished
	maxFailureFacts = 5    // classes of exceptions, and places, of one failure
)

func newFailures(e *Env) Watcher {
	return &failures{world: e.World, facts: e.Facts, out: e.Out, known: e.Known, seen: map[failure]*seenFailure{}}
}

var keysMissingRule = Rule{
	ID: "keys/missing", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A service that has registrations was asked for with a key that none of them has, or without a key where all of them have one.",
	Not: "Services that are not registered at all, for which resolve/missing speaks; a warning where the asker is content without. More than five keys of one service and asker come from data and are one finding.",
	Tell: func(f *finding.Finding) {
		service, asked := f.Subject.Service, sentence(" It was asked for %s%s.", times(f.Counts["failures"]), askedBy(f))
		keys, unkeyed, containers := f.Facts["keys"], len(f.Facts["unkeyed"]) > 0, f.Facts["containers"]
		registered := sentence("Registered for %s: %s.", service, list(keys))
		if unkeyed && len(keys) == 0 {
			registered = sentence("%s is registered without a key only.", service)
		}
		n := f.Counts["keys"]
		switch {
		case n > 0:
			f.Title = sentence("%s different keys of %s are asked for and not registered", number(n), service)
			f.Why = sentence("A key that differs each time comes from data, such as a user's choice; among them were %s.", list(quoted(f.Facts["asked_keys"]))) + asked + " " + registered
			f.Fix = sentence("Check the key before %s is asked for it: compare it with the registered keys, and answer the ones that are not registered yourself.", service)
		case len(containers) > 0:
			f.Title = sentence("%s is registered in another container", f.Subject.Name())
			f.Why = sentence("%s is registered in %s, which is not the asker's container nor around it.", f.Subject.Name(), list(containers)) + asked
			f.Fix = sentence("Ask in %s, or let that container export %s to the asker's.", list(containers), f.Subject.Name())
		case f.Subject.Key == nil:
			f.Title = sentence("%s is asked for without a key, and is registered only with keys", service)
			f.Why = registered + asked
			f.Fix = sentence("Ask for %s with one of its keys%s.", service, orKeys(keys))
		case len(keys) == 0:
			f.Title = sentence("%s is asked for with a key, and is registered without one", f.Subject.Name())
			f.Why = registered + asked
			f.Fix = sentence("Ask for %s without a key.", service)
		default:
			f.Title = sentence("%s is not registered", f.Subject.Name())
			f.Why = registered + asked
			f.Fix = sentence("Ask for %s, the nearest key that is registered, or register the key.", keys[0])
		}
	},
}

// orKeys returns ": gauge or model", or nothing where there are too many to help.
func orKeys(keys []string) string {
	if len(keys) == 0 || len(keys) > 4 {
		return ""
	}
	return ": " + strings.Join(keys, " or ")
}

func quoted(names []string) []string {
	out := make([]string, len(names))
	for n, name := range names {
		out[n] = `"` + name + `"`
	}
	return out
}

func askedBy(f *finding.Finding) string {
	by := ""
	if f.Holder != nil {
		by = " by " + f.Holder.Name()
	}
	if at := f.Facts["places"]; len(at) > 0 {
		by += " (" + strings.Join(at, ", ") + ")"
	}
	return by
}

// closed is a circle with its first member again at the end. A member that asks for itself may be all of it.
func closed(circle []string) []string {
	if n := len(circle); n > 1 && circle[0] == circle[n-1] {
		return circle
	}
	return append(slices.Clip(circle), circle[0])
}

// resolveRule makes one of the rules that differ in their texts only.
func resolveRule(id, doc, title, why, fix string) Rule {
	return Rule{
		ID: id, Severity: finding.Error, Basis: finding.Observed, Doc: doc,
		Not: "A warning where the asker is content with nothing.",
		Tell: func(f *finding.Finding) {
			name := f.Subject.Name()
			f.Title = strings.ReplaceAll(title, "NAME", name)
			f.Why = strings.ReplaceAll(why, "NAME", name) + sentence(" It was asked for %s%s.", times(f.Counts["failures"]), askedBy(f))
			switch p := f.Facts["path"]; {
			case id == "resolve/cycle" && len(p) > 0:
				f.Why += " " + sentence("The circle: %s.", strings.Join(closed(p), " → ")) + stepsOf(f)
			case len(p) > 1:
				f.Why += " " + sentence("The way there: %s.", strings.Join(p, " → "))
			}
			if e := f.Facts["errors"]; len(e) > 0 {
				f.Why += " " + sentence("The exception was %s.", list(e))
			}
			if i := f.Facts["implements"]; len(i) > 0 {
				f.Why += " " + sentence("%s.", list(i))
			}
			if n := f.Facts["nearest"]; len(n) > 0 {
				f.Why += " " + sentence("Similar registered services: %s.", list(n))
			}
			f.Fix = strings.ReplaceAll(fix, "NAME", name)
			switch {
			case id == "resolve/cycle":
				f.Fix = circleFix(f)
			case id == "resolve/missing" && len(f.Facts["containers"]) > 0:
				f.Title = sentence("%s is registered in another container", name)
				f.Why = sentence("%s is registered in %s, which is not the asker's container nor around it. It was asked for %s%s.", name, list(f.Facts["containers"]), times(f.Counts["failures"]), askedBy(f))
				f.Fix = sentence("Ask in %s, or let that container export %s to the asker's.", list(f.Facts["containers"]), name)
			case id == "resolve/missing" && len(f.Facts["implements"]) > 0:
				f.Fix = sentence("Ask for the service that %s is registered for.", name)
			}
		},
	}
}

var (
	cycleRule = resolveRule("resolve/cycle", "Building something needed an instance of itself.",
		"NAME cannot be built: circular dependency", "What NAME needs leads back to it.", "")
	missingRule = resolveRule("resolve/missing", "Something was asked for that is not registered.",
		"NAME is not registered", "There is no registration for NAME.", "Register NAME, or ask for what is registered.")
	ambiguousRule = resolveRule("resolve/ambiguous", "Several registrations could answer and none is preferred.",
		"Several registrations could answer for NAME", "The container has several candidates for NAME and none is preferred.", "Ask for one by key, mark one as the preferred one, or ask for all.")
	constructorsRule = resolveRule("resolve/constructors", "Several constructors of an implementation fit equally well.",
		"NAME has several constructors that fit equally", "The container can fill the parameters of several constructors of NAME and prefers none of them.", "Leave one constructor of NAME that the container may use, or mark the one that it should.")
	refusedRule = resolveRule("resolve/refused", "The container itself refused a combination of lifetimes.",
		"The container refuses to build NAME", "What NAME needs lives shorter than the instance that would keep it, and the container refuses that.", "Give the two the same lifetime, or let the longer-lived one ask in each scope.")
	resolveFailedRule = resolveRule("resolve/failed", "A constructor or factory failed.",
		"Building NAME fails", "Its constructor or factory failed.", "See the application's own log for the error, and let the constructor only store what it is given.")
	noScopeRule = resolveRule("resolve/no-scope", "Something scoped was asked for outside any scope it could live in.",
		"NAME is asked for outside any scope", "NAME is registered for a scope, and there is none where it is asked for.", "Open a scope around the work, and ask in it.")
)

var closedScopeRule = Rule{
	ID: "resolve/closed-scope", Severity: finding.Error, Basis: finding.Observed,
	Doc: "Something was asked of a scope that had been closed, or an instance was made in or for one and was let be.",
	Not: "A make that came while its scope was closing, before the close.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is asked of a scope that has closed", name)
		if n := f.Counts["instances"]; n > 0 {
			f.Why = sentence("%s of %s %s built in a scope after its end: nothing will dispose %s with it.", count(n, "instance", "instances"), name, plural(int(n), "was", "were"), plural(int(n), "it", "them"))
		} else {
			f.Why = sentence("The container refused it %s%s.", times(f.Counts["failures"]), askedBy(f))
		}
		f.Fix = sentence("Let the work that asks for %s%s end before its scope does, or give it its own scope.", name, place(f.Subject))
	},
}

type closedScope struct{ out Reporter }

func (r *closedScope) See(c *ledger.Change) {
	i := c.Inst
	if i.Reg != nil && !i.Reg.Known {
		return // it comes again, settled
	}
	s := c.Scope
	if home := i.Home(); home != nil && home.Ended {
		s = home
	}
	if s == nil || !s.Ended || i.Made-i.NS <= s.ClosedAt {
		return
	}
	found := r.out.Report(Occurrence{
		Rule: &closedScopeRule, Subject: i.Ref(), Scope: s, Insts: []*ledger.Instance{i}, Roles: []string{"subject"}, Line: i.MadeLine, T: i.Made,
	})
	found.Count("instances", 1)
	i.SetTag(closedScopeTag, found)
}

func (r *failures) See(c *ledger.Change) {
	ev := c.Event
	k := failure{why: ev.Why, service: ev.Service, key: ev.Key, hasKey: ev.Has.Has(event.FKey)}
	switch {
	case ev.Has.Has(event.FFor):
		k.asker = r.world.Registration(ev.For)
	case c.Inst != nil:
		k.asker = c.Inst.Reg
		if c.Inst.Reg == nil {
			k.direct = c.Inst.Impl()
		}
	default:
		k.entry = ev.Entry
	}
	if ev.Why == "cycle" {
		members := cycleOf(ev.Path, ev.Service)
		k = failure{why: "cycle", cycle: strings.Join(members, "\x00")}
		for _, m := range members {
			r.known.cycleServices[m] = true
		}
	}
	if ev.Why != "missing" || !k.hasKey {
		r.note(r.of(k, c), ev)
		return
	}
	asked := k
	asked.key = ""
	all := r.of(asked, c)
	if all == nil {
		return
	}
	r.note(all, ev)
	if all.keys == nil {
		all.keys = &askedKeys{hashes: map[uint64]bool{}}
	}
	all.keys.note(k, c)
}

// of returns the failure that is known by k, nil if there is no room for another one.
func (r *failures) of(k failure, c *ledger.Change) *seenFailure {
	one := r.seen[k]
	if one == nil && len(r.list) < maxCandidates {
		one = newFailure(k, c)
		r.seen[k] = one
		r.list = append(r.list, one)
	}
	return one
}

func newFailure(k failure, c *ledger.Change) *seenFailure {
	one := &seenFailure{failure: k, first: c.Event.T, last: c.Event.T, line: c.Event.Line, scope: c.Scope, path: slices.Clone(c.Event.Path)}
	if k.why == "cycle" {
		one.path = strings.Split(k.cycle, "\x00")
	}
	return one
}

// note counts one more of the same.
func (*failures) note(one *seenFailure, ev *event.Event) {
	if one == nil {
		return
	}
	one.n++
	one.last = max(one.last, ev.T)
	if !ev.Optional {
		one.required++
	}
	for _, of := range []struct {
		text string
		list *[]string
	}{{ev.Error, &one.errors}, {ev.At, &one.places}} {
		if of.text != "" && len(*of.list) < maxFailureFacts && !slices.Contains(*of.list, of.text) {
			*of.list = append(*of.list, of.text)
		}
	}
}

// note counts the key that k was asked for with.
func (a *askedKeys) note(k failure, c *ledger.Change) {
	h := fnv.New64a()
	_, _ = h.Write([]byte(k.key)) // never fails
	if sum := h.Sum64(); !a.hashes[sum] {
		if len(a.hashes) < maxKeyHashes {
			a.hashes[sum] = true
		} else {
			a.more = true
		}
	}
	at := slices.IndexFunc(a.list, func(one *seenFailure) bool { return one.key == k.key })
	if at < 0 {
		if len(a.list) > maxSeparateKeys {
			return
		}
		at = len(a.list)
		a.list = append(a.list, newFailure(k, c))
	}
	(*failures)(nil).note(a.list[at], c.Event)
}

// cycleOf returns the members of a cycle: what leads to it cut off, and rotated to begin with the smallest name.
func cycleOf(path []string, service string) []string {
	members := path
	if len(members) == 0 {
		return []string{service}
	}
	last := members[len(members)-1]
	if at := slices.Index(members[:len(members)-1], last); at >= 0 {
		members = members[at : len(members)-1]
	} else if at := slices.Index(members, service); at >= 0 && service != last {
		members = members[at:]
	}
	members = slices.Clone(members)
	least := 0
	for n, m := range members {
		if m < members[least] {
			least = n
		}
	}
	return append(members[least:], members[:least]...)
}

func (r *failures) Judge() {
	g := r.facts.Answers()
	r.looked, r.alike = 0, map[string]*alike{}
	clear(r.known.refusedPaths)
	for _, f := range r.list {
		if f.keys == nil || len(f.keys.list) > maxSeparateKeys {
			r.judge(g, f)
			continue
		}
		for _, one := range f.keys.list {
			r.judge(g, one)
		}
	}
}

// judge reports one failure.
func (r *failures) judge(g *facts.Answers, f *seenFailure) {
	o := Occurrence{Scope: f.scope, Line: f.line, T: f.first, Severity: finding.Error, Subject: finding.Ref{Service: f.service}}
	if f.required == 0 {
		o.Severity = finding.Warning
		if f.why == "missing" {
			o.Severity = finding.Note // what may be absent is absent
		}
	}
	fromData := f.keys != nil
	if f.hasKey && !fromData {
		key := f.key
		o.Subject.Key = &key
	}
	switch {
	case f.asker != nil && f.asker.Known:
		holder := named(r.facts.Built(), f.asker)
		o.Holder = &holder
	case f.direct != "":
		o.Holder = &finding.Ref{Service: f.direct, Implementation: finding.Text(f.direct)}
	case f.entry != "":
		o.Holder = &finding.Ref{Service: f.entry}
	}
	from := r.world.First()
	if f.asker != nil && f.asker.Known {
		from = f.asker.Container
	}
	asked := ledger.Asked{Service: f.service, Key: f.key, HasKey: f.hasKey}
	var steps []string
	weakest := ""
	switch f.why {
	case "missing":
		o.Rule = &missingRule
		if of := g.Of(f.service); len(of) > 0 && (f.hasKey || !slices.ContainsFunc(of, func(reg *ledger.Registration) bool {
			return !reg.HasKey && reg.Service == f.service && reg.Template == 0
		})) {
			o.Rule = &keysMissingRule
		}
	case "cycle":
		o.Rule = &cycleRule
		members := strings.Split(f.cycle, "\x00")
		o.Subject = finding.Ref{Service: members[0]}
		o.Holder = nil
		for _, m := range members[1:] {
			o.Path = append(o.Path, finding.Ref{Service: m})
		}
		if o.Because = r.layersThemselves(g, members, f); o.Because == "" {
			r.known.unwrapped.around(r.world, g, r.known)
			o.Because = r.known.unwrapped.explains(r.facts.Built(), members)
		}
		steps, weakest = circleSteps(g, r.facts.Built(), registered(g, members), members)
	case "ambiguous":
		o.Rule = &ambiguousRule
	case "constructors":
		o.Rule = &constructorsRule
	case "lifetime":
		o.Rule = &refusedRule
	case "no-scope":
		o.Rule = &noScopeRule
	case "closed":
		o.Rule = &closedScopeRule
	default:
		o.Rule = &resolveFailedRule
	}
	if f.why != "cycle" && f.why != "missing" && f.why != "ambiguous" {
		if a := g.Answer(from, asked); a != nil {
			o.Subject.Implementation, o.Subject.At, o.Subject.Lifetime = finding.Text(r.facts.Built().Impl(a.Real())), finding.Text(a.At), string(a.Lifetime)
		}
	}
	found := r.out.Report(o)
	found.Count("failures", f.n)
	found.Last(f.last)
	for _, p := range f.path {
		if !fromData {
			found.Fact("path", p)
		}
	}
	for _, step := range steps {
		found.Fact("steps", step)
	}
	found.Fact("weakest", weakest)
	for _, class := range f.errors {
		found.Fact("errors", class)
	}
	for _, at := range f.places {
		found.Fact("places", at)
	}
	if fromData {
		found.Set("keys", int64(len(f.keys.hashes)))
		for _, one := range f.keys.list[:maxSeparateKeys] {
			found.Fact("asked_keys", one.key)
		}
	}
	r.near(g, f, asked, o.Rule, found)
	if o.Rule == &refusedRule || o.Rule == &noScopeRule {
		for n := 0; n+1 < len(f.path); n++ {
			r.known.refusedPaths[strings.Join(f.path[n:], "\x00")] = found.ID()
		}
	}
}

// The bounds of suggestions: how many keys are shown, and how many names are compared in one judging.
const (
	maxShownKeys = 12
	maxLooked    = 500_000
)

// near lists the names there are.
func (r *failures) near(g *facts.Answers, f *seenFailure, asked ledger.Asked, rule *Rule, found Case) {
	if r.looked > maxLooked {
		return
	}
	if rule == &keysMissingRule || rule == &missingRule {
		r.looked += len(g.All(asked))
		for _, reg := range g.All(asked) {
			if f.keys == nil && !reg.Local {
				found.Fact("containers", containerName(reg.Container))
			}
		}
	}
	switch rule {
	case &keysMissingRule:
		var keys []string
		for _, reg := range g.Of(f.service) {
			switch {
			case reg.HasKey:
				keys = append(keys, reg.Key)
			case reg.Template == 0:
				found.Fact("unkeyed", reg.Ref("").Name())
			}
		}
		r.looked += len(keys)
		for _, k := range nearest(f.key, keys, maxShownKeys, true) {
			found.Fact("keys", k)
		}
	case &missingRule:
		like := r.alike[f.service]
		if like == nil { // one missing registration may be asked for in many places
			services := g.Services()
			r.looked += len(services)
			like = &alike{nearest(f.service, services, 3, false), r.implements(f.service)}
			r.alike[f.service] = like
		}
		for _, s := range like.services {
			found.Fact("nearest", s)
		}
		for _, s := range like.implements {
			found.Fact("implements", s)
		}
	}
}

// alike is what resembles the name of a missing service.
type alike struct {
	services   []string
	implements []string // sentences
}

// implements returns sentences that name the services for which a name, or one like it, is the implementation.
func (r *failures) implements(service string) (sentences []string) {
	of := map[string][]*ledger.Registration{}
	var impls []string
	for _, reg := range r.world.Registrations() {
		if impl := r.facts.Built().Impl(reg); impl != "" && impl != reg.Service && reg.Known {
			if of[impl] == nil {
				impls = append(impls, impl)
			}
			of[impl] = append(of[impl], reg)
		}
	}
	r.looked += len(impls)
	for _, impl := range nearest(service, impls, 3, false) {
		for _, reg := range of[impl][:min(len(of[impl]), 3)] {
			ref := reg.Ref(impl)
			sentences = append(sentences, sentence("%s is the implementation of %s%s", impl, ref.Name(), place(ref)))
		}
	}
	return sentences
}

// containerName names a container for a sentence.
func containerName(c *ledger.Container) string {
	if c.Name != "" {
		return "the container " + c.Name
	}
	return "container " + number(int64(max(c.ID, 1)))
}

// layersThemselves reports layers/self where a cycle comes back to a service that has layers.
func (r *failures) layersThemselves(g *facts.Answers, members []string, f *seenFailure) string {
	for _, m := range members {
		for _, reg := range g.Of(m) {
			if !r.facts.Layers().IsLayer(reg) || reg.Service != m {
				continue
			}
			outer, _, _ := r.facts.Layers().Chain(reg)
			found := r.out.Report(Occurrence{Rule: &selfRule, Subject: named(r.facts.Built(), outer), Scope: f.scope, Line: f.line, T: f.first})
			found.Count("failures", f.n)
			for _, step := range members {
				found.Fact("way", step)
			}
			return found.ID()
		}
	}
	return ""
}

// cycleDeclared reports resolve/cycle-declared: by what the registrations ask for, building one would come round.
type cycleDeclared struct {
	world *ledger.World
	facts facts.Granted `freeze:"-"`
	out   Reporter
	known *Shared
}

var cycleDeclaredRule = Rule{
	ID: "resolve/cycle-declared", Severity: finding.Error, Basis: finding.Declared,
	Doc: "By what the registrations ask for, building one of them would come round to itself.",
	Not: "Needs that are asked for later; proxies; containers that resolve cycles by placeholders; circles whose members were all built; those of an observed resolve/cycle.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s cannot be built as registered: circular dependency", f.Subject.Name())
		circle := []string{f.Subject.Name()}
		for n := range f.Path {
			circle = append(circle, f.Path[n].Name())
		}
		f.Why = sentence("What it asks for leads back to it: %s.", strings.Join(closed(circle), " → ")) + stepsOf(f)
		f.Fix = circleFix(f)
	},
}

func (r *cycleDeclared) See(*ledger.Change) {}

func (r *cycleDeclared) Judge() {
	g := r.facts.Answers()
	edges := declaredEdges(r.world, g)
	wrapsNothing := &r.known.unwrapped
	wrapsNothing.around(r.world, g, r.known)
	wrapsNothing.report(r.facts.Built(), r.out)
	done := map[*ledger.Registration]bool{}
	left := maxCycleSteps
	for _, ring := range rings(r.world.Registrations(), edges) {
		for _, reg := range ring {
			if done[reg] || left <= 0 {
				continue
			}
			if cycle := shortestBack(edges, reg, &left); cycle != nil {
				explained := false
				for _, m := range cycle {
					done[m] = true
					explained = explained || wrapsNothing.rivals[m] != nil
				}
				if !explained {
					r.report(cycle)
				}
			}
		}
	}
}

// declaredEdges returns which registrations each one asks for while it is built, aliases followed.
func declaredEdges(w *ledger.World, g *facts.Answers) map[*ledger.Registration][]*ledger.Registration {
	edges := map[*ledger.Registration][]*ledger.Registration{}
	for _, reg := range w.Registrations() {
		if !reg.Known || reg.Alias != nil || reg.Proxy != nil || reg.Container.Cycles == "proxied" {
			continue
		}
		list, _ := needed(g, reg, false)
		w.Step(1 + len(list))
		for _, to := range list {
			if to.Proxy == nil {
				edges[reg] = append(edges[reg], to)
			}
		}
	}
	return edges
}

// maxCycleSteps bounds how many needs are followed in one judging to find the shortest way round.
const maxCycleSteps = 4_000_000

// rings returns the registrations that lie on a cycle, those that can reach each other together, all in order. It is
// Tarjan's algorithm for strongly connected components (SIAM Journal on Computing 1, 1972), with its own stack.
func rings(all []*ledger.Registration, edges map[*ledger.Registration][]*ledger.Registration) [][]*ledger.Registration {
	type frame struct {
		reg  *ledger.Registration
		next int
	}
	place := make(map[*ledger.Registration]int, len(all))
	for n, reg := range all {
		place[reg] = n
	}
	index, low := map[*ledger.Registration]int{}, map[*ledger.Registration]int{}
	open := map[*ledger.Registration]bool{}
	var stack []*ledger.Registration
	var found [][]*ledger.Registration
	for _, start := range all {
		if index[start] != 0 || len(edges[start]) == 0 {
			continue
		}
		work := []frame{{reg: start}}
		for len(work) > 0 {
			f := &work[len(work)-1]
			if f.next == 0 {
				index[f.reg] = len(index) + 1
				low[f.reg] = index[f.reg]
				stack, open[f.reg] = append(stack, f.reg), true
			}
			if f.next < len(edges[f.reg]) {
				to := edges[f.reg][f.next]
				f.next++
				if index[to] == 0 {
					work = append(work, frame{reg: to})
				} else if open[to] {
					low[f.reg] = min(low[f.reg], index[to])
				}
				continue
			}
			reg := f.reg
			work = work[:len(work)-1]
			if len(work) > 0 {
				above := work[len(work)-1].reg
				low[above] = min(low[above], low[reg])
			}
			if low[reg] != index[reg] {
				continue
			}
			at := len(stack) - 1
			for stack[at] != reg {
				at--
			}
			ring := slices.Clone(stack[at:])
			for _, m := range ring {
				open[m] = false
			}
			stack = stack[:at]
			if len(ring) > 1 || slices.Contains(edges[reg], reg) {
				slices.SortFunc(ring, func(a, b *ledger.Registration) int { return place[a] - place[b] })
				found = append(found, ring)
			}
		}
	}
	slices.SortFunc(found, func(a, b []*ledger.Registration) int { return place[a[0]] - place[b[0]] })
	return found
}

// shortestBack returns the shortest way from start back to it, start first; nil if there is none, or no step is left to
// find it with.
func shortestBack(edges map[*ledger.Registration][]*ledger.Registration, start *ledger.Registration, left *int) []*ledger.Registration {
	from := map[*ledger.Registration]*ledger.Registration{}
	queue := []*ledger.Registration{start}
	for len(queue) > 0 && *left > 0 {
		at := queue[0]
		queue = queue[1:]
		*left -= 1 + len(edges[at])
		for _, to := range edges[at] {
			if to == start {
				var cycle []*ledger.Registration
				for p := at; p != start; p = from[p] {
					cycle = append(cycle, p)
				}
				slices.Reverse(cycle)
				return append([]*ledger.Registration{start}, cycle...)
			}
			if _, seen := from[to]; !seen {
				from[to] = at
				queue = append(queue, to)
			}
		}
	}
	return nil
}

func (r *cycleDeclared) report(cycle []*ledger.Registration) {
	made := true
	least := 0
	for n, m := range cycle {
		made = made && m.Made > 0
		if r.known.cycleServices[m.Service] {
			return
		}
		if m.Service < cycle[least].Service {
			least = n
		}
	}
	if made {
		return
	}
	cycle = append(slices.Clone(cycle[least:]), cycle[:least]...)
	o := Occurrence{Rule: &cycleDeclaredRule, Subject: cycle[0].Ref(""), Line: cycle[0].Line, T: cycle[0].T}
	for _, m := range cycle[1:] {
		o.Path = append(o.Path, m.Ref(""))
	}
	if len(o.Path) == 0 {
		o.Path = []finding.Ref{cycle[0].Ref("")}
	}
	found := r.out.Report(o)
	found.Count("registrations", int64(len(cycle)))
	names := make([]string, len(cycle))
	for n, m := range cycle {
		names[n] = m.Service
	}
	steps, weakest := circleSteps(r.facts.Answers(), r.facts.Built(), cycle, names)
	for _, step := range steps {
		found.Fact("steps", step)
	}
	found.Fact("weakest", weakest)
}
