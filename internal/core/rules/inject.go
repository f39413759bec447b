package rules

import (
	"slices"
	"strings"
	"unicode"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// injected runs the rules about who was given what: unused, direct, mixed, absent and stand-in.
type injected struct {
	facts  facts.Granted `freeze:"-"`
	world  *ledger.World
	out    Reporter
	set    *Settings
	direct map[string]*directly
	loose  map[string]*sitesOf // of consumers without a registration, by implementation

	properties bool // some instance was filled after construction in this stream
}

type site struct {
	fills, nulls int64
	used         bool
	given        finding.Ref
	name         string
	example      *ledger.Instance
	madeAt       int64 // scopes opened when a singleton was made
}

type directly struct {
	n        int64
	disposed int64 // by code, in the scope where it was made
	list     []*ledger.Instance
	places   []string // that construct it, in the source
}

func newInjected(e *Env) Watcher {
	return &injected{
		facts: e.Facts, world: e.World, out: e.Out, set: e.Set, direct: map[string]*directly{}, loose: map[string]*sitesOf{},
	}
}

var unusedRule = Rule{
	ID: "inject/unused", Severity: finding.Note, Basis: finding.Observed,
	Doc:   "What a site is filled with is never used by its holder, in twenty makes or more, or over twenty scopes of a singleton, while the holder was seen to use other things.",
	Not:   "Holders whose uses were not recorded at all.",
	Needs: ledger.SeesUse,
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s is given %s and never uses it", f.Holder.Name(), f.Subject.Name())
		f.Why = sentence("It was given to %s, and %s used other things in this recording, but never this.", count(f.Counts["fills"], "instance", "instances"), f.Holder.Name())
		f.Fix = sentence("Take %s out of what %s%s asks for.", f.Subject.Name(), f.Holder.Name(), place(*f.Holder))
	},
}

var directRule = Rule{
	ID: "inject/direct", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "Something was constructed in application code although its implementation is registered, or takes the place of a registered service.",
	Not: "Implementations that are not registered and given to no need of a registered service; a note where code also disposed it in the scope where it was made.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		n := f.Counts["instances"]
		if f.Holder != nil {
			f.Title = sentence("%s, constructed by hand, takes the place of %s", f.Subject.Impl(), name)
			f.Why = sentence("%s of %s%s %s given to %s where it asks for %s, which is registered: the container neither shares nor disposes %s, and its layers do not apply.",
				count(n, "instance", "instances"), f.Subject.Impl(), constructedAt(f), plural(int(n), "was", "were"), f.Holder.Name(), name, plural(int(n), "it", "them"))
			f.Fix = sentence("Let the container give %s its %s, or register %s for it.", f.Holder.Name(), name, f.Subject.Impl())
			return
		}
		f.Title = sentence("%s is constructed past the container", f.Subject.Impl())
		f.Why = sentence("%s of it %s constructed in application code%s, although it is registered as %s: the container neither shares nor disposes %s.",
			count(n, "instance", "instances"), plural(int(n), "was", "were"), constructedAt(f), name, plural(int(n), "it", "them"))
		f.Fix = sentence("Ask the container for %s%s.", name, place(f.Subject))
	},
}

// constructedAt returns " (desk.go:8)", as far as the places are known.
func constructedAt(f *finding.Finding) string { return among(f.Facts["places"]) }

var mixedRule = Rule{
	ID: "inject/mixed", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "Single requests for one service, without a key, were answered by different implementations.",
	Not: "Layers, aliases, requests for all; a note where one factory's registration made them all: it chooses.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s is answered by different implementations", f.Subject.Name())
		f.Why = sentence("The same request, without a key, got %s in this recording.", list(f.Facts["implementations"]))
		f.Fix = sentence("Give the implementations of %s different keys, or keep one registration.", f.Subject.Name())
	},
}

var absentRule = Rule{
	ID: "inject/absent", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "An optional need was never there, in every one of five makes or more: a note, and a warning when the service is registered under another key; or an injection after construction (a property, field or setter) was declared and never filled.",
	Not: "A need that was filled once; recorders that were not seen to fill any property.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s never gets the %s it could use", f.Holder.Name(), f.Subject.Name())
		f.Why = sentence("It is optional, and was absent for all of %s.", count(f.Counts["makes"], "instance", "instances"))
		if how := f.Facts["how"]; len(how) > 0 {
			f.Title = sentence("%s declares a %s for %s that is never filled", f.Holder.Name(), how[0], f.Subject.Name())
			f.Why = sentence("None of %s had it filled after construction.", count(f.Counts["makes"], "instance", "instances"))
		}
		if k := f.Facts["registered"]; len(k) > 0 {
			f.Why += " " + sentence("Registered are: %s.", list(k))
		}
		f.Fix = sentence("Register %s, ask for it by the name it has, or take it out of %s%s.", f.Subject.Name(), f.Holder.Name(), place(*f.Holder))
	},
}

var standInRule = Rule{
	ID: "inject/stand-in", Severity: finding.Error, Basis: finding.Observed,
	Doc: "In production, an implementation whose name marks it as a stand-in (Stub, Mock, Fake, Dummy, Sample; a warning: InMemory) was handed out.",
	Not: "Other environments; packages that are named so; what was handed out among all only.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s answers for %s in production", f.Subject.Impl(), f.Subject.Name())
		f.Why = sentence("Its name marks it as a stand-in, and it was handed out %s.", times(f.Counts["instances"]))
		f.Fix = sentence("Register the real implementation of %s%s for this environment.", f.Subject.Name(), place(f.Subject))
	},
}

func (r *injected) See(c *ledger.Change) {
	switch c.What {
	case ledger.Made:
		r.made(c)
	case ledger.Bound:
		if c.Edge == nil {
			return
		}
		of := r.of(c.Holder)
		if of == nil {
			return
		}
		if c.Edge.Slot < 0 {
			r.filled(of, c)
			return
		}
		s := of.site(int(c.Edge.Slot))
		s.fills++
		if s.given.Service == "" {
			s.example.Let()
			s.given, s.name, s.example = c.Inst.Ref(), c.Edge.Site, c.Holder.Hold()
			s.madeAt = r.world.ScopesOpened
		}
	case ledger.Used:
		if c.Holder == nil {
			return
		}
		of := r.of(c.Holder)
		if of == nil {
			return
		}
		of.uses = true
		if len(c.Holder.Keeps) > maxLooks { // by which of them is too much work to find out, each time
			for _, s := range of.list {
				s.used = true
			}
			return
		}
		r.world.Step(len(c.Holder.Keeps))
		for n := range c.Holder.Keeps {
			if e := &c.Holder.Keeps[n]; e.ID == c.Inst.ID && e.Slot >= 0 {
				of.site(int(e.Slot)).used = true
			}
		}
	case ledger.DisposeSeen:
		if c.Inst.By == "direct" && c.Event.By == "code" && c.Scope == c.Inst.Scope && c.Inst.Done == 1 {
			if d := r.direct[c.Inst.Impl()]; d != nil {
				d.disposed++
			}
		}
	}
}

// sitesOf are what is known of one consumer's needs.
type sitesOf struct {
	uses   bool // it was seen to use anything
	list   []*site
	filled []filledAs // after construction
}

// filledAs is an injection after construction that was seen.
type filledAs struct{ site, service string }

// of returns what is known of the needs of i's registration, or of its implementation where it has none; nil where neither is known.
func (r *injected) of(i *ledger.Instance) *sitesOf {
	if i.Reg != nil {
		return r.ofReg(i.Reg)
	}
	impl := i.Impl()
	if impl == "" {
		return nil
	}
	s := r.loose[impl]
	if s == nil && len(r.loose) < maxCandidates {
		s = &sitesOf{}
		r.loose[impl] = s
	}
	return s
}

func (r *injected) ofReg(reg *ledger.Registration) *sitesOf {
	if s, ok := reg.Tag(unusedTag).(*sitesOf); ok {
		return s
	}
	s := &sitesOf{}
	reg.SetTag(unusedTag, s)
	return s
}

func (of *sitesOf) site(slot int) *site {
	for len(of.list) <= min(slot, maxSites-1) {
		of.list = append(of.list, &site{})
	}
	return of.list[min(slot, maxSites-1)]
}

// filled notes an injection after construction.
func (r *injected) filled(of *sitesOf, c *ledger.Change) {
	r.properties = true
	as := filledAs{site: c.Edge.Site}
	if c.Event.Kind == event.Give {
		as.service = c.Event.Service
	}
	if as.service == "" && c.Inst.Reg != nil {
		as.service = c.Inst.Reg.Service
	}
	if len(of.filled) < maxSites && !slices.Contains(of.filled, as) {
		of.filled = append(of.filled, as)
	}
}

// maxPlaces bounds how many places that construct one implementation are listed.
const maxPlaces = 12

// maxSites bounds how many needs of one registration are distinguished.
const maxSites = 64

func (r *injected) made(c *ledger.Change) {
	i := c.Inst
	if i.By == "direct" && i.Impl() != "" {
		d := r.direct[i.Impl()]
		if d == nil {
			if len(r.direct) == maxCandidates {
				return
			}
			d = &directly{}
			r.direct[i.Impl()] = d
		}
		d.n++
		if len(d.list) < finding.MaxExamples {
			d.list = append(d.list, i.Hold())
		}
		if at := i.MadeAt(); at != "" && len(d.places) < maxPlaces && !slices.Contains(d.places, at) {
			d.places = append(d.places, at)
		}
	}
	if i.Reg == nil {
		return
	}
	for n := range c.Event.With {
		w := &c.Event.With[n]
		if w.Absent && !w.All {
			s := r.ofReg(i.Reg).site(w.Slot)
			s.nulls++
			s.example.Let()
			s.example = i.Hold()
			if w.Site != "" {
				s.name = w.Site
			}
		}
	}
}

func (r *injected) Judge() {
	for _, reg := range r.world.Registrations() {
		if !reg.Known || reg.Internal {
			continue
		}
		of := r.ofReg(reg)
		for slot, s := range of.list {
			if reg.Sees&ledger.SeesUse != 0 {
				r.unused(named(r.facts.Built(), reg), reg.Lifetime == ledger.Singleton, of, s)
			}
			r.absent(reg, slot, s)
		}
		r.neverFilled(reg, of)
	}
	for _, impl := range sortedKeys(r.loose) {
		for _, s := range r.loose[impl].list {
			if r.world.Sees&ledger.SeesUse != 0 {
				r.unused(finding.Ref{Service: impl, Implementation: finding.Text(impl)}, false, r.loose[impl], s)
			}
		}
	}
	r.constructed()
	r.mixed()
	r.standIns()
}

func (r *injected) unused(holder finding.Ref, singleton bool, of *sitesOf, s *site) {
	enough := s.fills >= r.set.UnusedFills || s.fills > 0 && singleton && r.world.ScopesOpened-s.madeAt >= r.set.UnusedFills
	if s.used || !enough || !of.uses {
		return
	}
	found := r.out.Report(Occurrence{
		Rule: &unusedRule, Subject: s.given, Holder: &holder, Site: s.name, Insts: []*ledger.Instance{s.example}, Scope: s.example.Scope, Line: s.example.MadeLine, T: s.example.Made,
	})
	found.Count("fills", s.fills)
	by(found, "unused_fills", r.set.UnusedFills)
}

// neverFilled reports the injections after construction that reg declares and that none of its instances had.
func (r *injected) neverFilled(reg *ledger.Registration, of *sitesOf) {
	if !r.properties || reg.Made < r.set.AbsentMakes || reg.Sees&ledger.SeesWith == 0 {
		return
	}
	for n := range reg.Needs {
		need := &reg.Needs[n]
		if !event.Injected(need.How) || need.Lazy || slices.ContainsFunc(of.filled, func(as filledAs) bool {
			return as.site != "" && as.site == need.Site || as.service == need.Service || as.site == "" && as.service == ""
		}) {
			continue
		}
		o := Occurrence{Rule: &absentRule, Severity: finding.Warning, Subject: finding.Ref{Service: need.Service}, Line: reg.Line, T: reg.T, Site: need.Site}
		if need.HasKey {
			key := need.Key
			o.Subject.Key = &key
		}
		if need.Optional {
			o.Severity = finding.Note
		}
		holder := named(r.facts.Built(), reg)
		o.Holder = &holder
		found := r.out.Report(o)
		found.Count("makes", reg.Made)
		found.Fact("how", need.How)
		by(found, "absent_makes", r.set.AbsentMakes)
		for _, other := range r.facts.Answers().Of(need.Service) {
			found.Fact("registered", other.Ref("").Name())
		}
	}
}

func (r *injected) absent(reg *ledger.Registration, slot int, s *site) {
	need := reg.AskedAt(slot)
	if need == nil || !need.Optional || s.fills > 0 || s.nulls < r.set.AbsentMakes || s.nulls < reg.Made {
		return
	}
	o := Occurrence{Rule: &absentRule, Severity: finding.Note, Subject: finding.Ref{Service: need.Service}, Line: s.example.MadeLine, T: s.example.Made, Site: s.name}
	if need.HasKey {
		key := need.Key
		o.Subject.Key = &key
	}
	holder := named(r.facts.Built(), reg)
	o.Holder, o.Insts, o.Scope = &holder, []*ledger.Instance{s.example}, s.example.Scope
	others := r.facts.Answers().Of(need.Service)
	if len(others) > 0 {
		o.Severity = finding.Warning
	}
	found := r.out.Report(o)
	found.Count("makes", s.nulls)
	by(found, "absent_makes", r.set.AbsentMakes)
	for _, other := range others {
		found.Fact("registered", other.Ref("").Name())
	}
}

func (r *injected) constructed() {
	first := map[string]*ledger.Registration{}
	note := func(impl string, reg *ledger.Registration) {
		if reg.Known && !reg.Internal && reg.Alias == nil && impl != "" && first[impl] == nil {
			first[impl] = reg
		}
	}
	for _, reg := range r.world.Registrations() {
		note(reg.Impl, reg)
		note(r.facts.Built().Impl(reg), reg)
	}
	for _, h := range r.facts.Handouts().All() {
		if h.Given != nil {
			note(h.MadeImpl(), h.Given)
		}
	}
	for _, impl := range sortedKeys(r.direct) {
		reg := first[impl]
		if reg == nil {
			continue
		}
		d := r.direct[impl]
		o := Occurrence{Rule: &directRule, Severity: finding.Warning, Subject: reg.Ref(impl)}
		if d.disposed == d.n {
			o.Severity = finding.Note
		}
		var found Case
		for _, i := range d.list {
			o.Insts, o.Scope, o.Line, o.T = []*ledger.Instance{i}, i.Scope, i.MadeLine, i.Made
			found = r.out.Report(o)
		}
		found.Count("instances", d.n)
		for _, at := range d.places {
			found.Fact("places", at)
		}
	}
	r.substitutes(first)
}

// substitutes reports what was constructed by hand, is not registered, and was given to a need of a registered service.
func (r *injected) substitutes(byImpl map[string]*ledger.Registration) {
	g := r.facts.Answers()
	for _, h := range r.facts.Handouts().All() {
		if h.Given != nil || !h.Said() || h.MadeImpl() == "" || byImpl[h.MadeImpl()] != nil || h.Examples[0].Insts[0].By != "direct" || who(r.facts.Built(), h) == nil {
			continue
		}
		asked := h.Asks()
		from := h.From
		if from == nil {
			from = r.world.First()
		}
		reg := g.Answer(from, asked)
		if reg == nil || !reg.Known || reg.Internal || h.By() != nil && (h.By().Service == asked.Service || h.By().Internal) {
			continue
		}
		subject := finding.Ref{Service: asked.Service, Implementation: finding.Text(h.MadeImpl()), At: finding.Text(reg.At), Lifetime: string(reg.Lifetime)}
		if asked.HasKey {
			key := asked.Key
			subject.Key = &key
		}
		found := reportHandout(h, r.out, Occurrence{Rule: &directRule, Subject: subject, Holder: who(r.facts.Built(), h)})
		for _, x := range h.Examples {
			found.Fact("places", x.Insts[0].MadeAt())
		}
	}
}

func (r *injected) mixed() {
	g := r.facts.Answers()
	type question struct {
		container *ledger.Container
		service   string
	}
	type answers struct {
		impls   map[string]*facts.Handout
		regs    map[*ledger.Registration]bool
		factory bool
		spoiled bool
	}
	all := map[question]*answers{}
	var order []question
	for _, h := range r.facts.Handouts().All() {
		if !h.Known() || h.ForAll() || h.Impl() == "" {
			continue
		}
		a := h.Asks()
		if a.HasKey || h.Given.HasKey && !h.Said() {
			continue
		}
		q := question{h.Given.Container, a.Service}
		one := all[q]
		if one == nil {
			one = &answers{impls: map[string]*facts.Handout{}, regs: map[*ledger.Registration]bool{}}
			all[q] = one
			order = append(order, q)
		}
		if h.Given.Internal || h.Given.Local || h.Via != nil || !goesBy(h.Given, a.Service) || h.Given.Inner() != nil || len(g.Wrappers(h.Given)) > 0 || h.Given.HasKey {
			one.spoiled = true
			continue
		}
		if h.Consumer != nil && h.Consumer.Service == a.Service {
			one.spoiled = true // a layer, declared or not
			continue
		}
		if one.impls[h.Impl()] == nil {
			one.impls[h.Impl()] = h
		}
		one.regs[h.Given] = true
		one.factory = one.factory || h.Factory
	}
	for _, q := range order {
		one := all[q]
		if one.spoiled || len(one.impls) < 2 || g.Declares(q.service) {
			continue
		}
		for reg := range one.regs {
			if len(g.Aliases(reg)) > 0 {
				one.spoiled = true
			}
		}
		if one.spoiled {
			continue
		}
		o := Occurrence{Rule: &mixedRule, Severity: finding.Warning, Subject: finding.Ref{Service: q.service}}
		if len(one.regs) == 1 && one.factory {
			o.Severity = finding.Note
		}
		for _, impl := range sortedKeys(one.impls) {
			reportHandout(one.impls[impl], r.out, o).Fact("implementations", impl)
		}
	}
}

func (r *injected) standIns() {
	if !strings.EqualFold(r.world.Stream.Environment, "production") {
		return
	}
	for _, h := range r.facts.Handouts().All() {
		if h.Known() && !h.Given.Internal && !h.ForAll() && standIn(h.Impl(), r.set.StandIns) {
			o := Occurrence{Rule: &standInRule, Severity: finding.Error, Subject: h.Given.Real().Ref(h.Impl())}
			if !standIn(h.Impl(), slices.DeleteFunc(slices.Clone(r.set.StandIns), inMemory)) {
				o.Severity = finding.Warning // some are meant for production
			}
			found := reportHandout(h, r.out, o)
			by(found, "stand_ins", strings.Join(r.set.StandIns, ", "))
		}
	}
}

// inMemory reports whether a stand-in's word means that it keeps its data in memory.
func inMemory(word string) bool { return strings.EqualFold(strings.Join(words(word), ""), "inmemory") }

// standIn reports whether one of the stand-ins' names is in the simple class name, as a word or several in a row.
func standIn(impl string, standIns []string) bool {
	if cut := strings.IndexAny(impl, "<[("); cut > 0 {
		impl = impl[:cut]
	}
	if at := strings.LastIndexAny(impl, "./$+:\\"); at >= 0 {
		impl = impl[at+1:]
	}
	name := words(impl)
	for _, s := range standIns {
		want := words(s)
		for n := 0; len(want) > 0 && n+len(want) <= len(name); n++ {
			if slices.EqualFunc(name[n:n+len(want)], want, strings.EqualFold) {
				return true
			}
		}
	}
	return false
}

// words cuts a name by case and separators: "StubSnowReports" is Stub, Snow, Reports, and "HTTPMock" HTTP, Mock.
func words(name string) []string {
	var list []string
	var word []rune
	flush := func() {
		if len(word) > 0 {
			list = append(list, string(word))
			word = nil
		}
	}
	rs := []rune(name)
	for n, c := range rs {
		switch {
		case !unicode.IsLetter(c) && !unicode.IsDigit(c):
			flush()
			continue
		case unicode.IsDigit(c):
			flush()
			continue
		case unicode.IsUpper(c) && n > 0 && (unicode.IsLower(rs[n-1]) || n+1 < len(rs) && unicode.IsLower(rs[n+1])):
			flush()
		}
		word = append(word, c)
	}
	flush()
	return list
}
