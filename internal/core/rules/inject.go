package rules

import (
	"strings"
	"unicode"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// injected runs the rules about who was given what: unused, direct, mixed, absent and stand-in.
type injected struct {
	facts  facts.Granted `freeze:"-"`
	world  *ledger.World
	out    Reporter
	set    *Settings
	direct map[string]*directly
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
}

func newInjected(e *Env) Watcher {
	return &injected{
		facts: e.Facts, world: e.World, out: e.Out, set: e.Set, direct: map[string]*directly{},
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
	Doc: "Something was constructed in application code although its implementation is registered.",
	Not: "Implementations that nobody registered; a note where code also disposed it in the scope where it was made.",
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		n := f.Counts["instances"]
		f.Title = sentence("%s is constructed past the container", f.Subject.Impl())
		f.Why = sentence("%s of it %s constructed in application code, although it is registered as %s: the container neither shares nor disposes %s.",
			count(n, "instance", "instances"), plural(int(n), "was", "were"), name, plural(int(n), "it", "them"))
		f.Fix = sentence("Ask the container for %s%s.", name, place(f.Subject))
	},
}

var mixedRule = Rule{
	ID: "inject/mixed", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "Single requests for one service, without a key, were answered by different implementations.",
	Not: "Layers, aliases, requests for all; a note where one factory's registration made them all: it chooses.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s is answered by different implementations", f.Subject.Name())
		f.Why = sentence("The same request, without a key, got %s in this recording.", list(f.Facts["implementations"]))
		f.Fix = sentence("Tell the implementations of %s apart by key, or leave one registration.", f.Subject.Name())
	},
}

var absentRule = Rule{
	ID: "inject/absent", Severity: finding.Warning, Basis: finding.Observed,
	Doc: "An optional need was never there, in every one of five makes or more: a note, and a warning when the service is registered under another key.",
	Not: "A need that was filled once.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s never gets the %s it could use", f.Holder.Name(), f.Subject.Name())
		f.Why = sentence("It is optional, and was absent for all of %s.", count(f.Counts["makes"], "instance", "instances"))
		if k := f.Facts["registered"]; len(k) > 0 {
			f.Why += " " + sentence("Registered are: %s.", list(k))
		}
		f.Fix = sentence("Register %s, ask for it by the name it has, or take it out of %s%s.", f.Subject.Name(), f.Holder.Name(), place(*f.Holder))
	},
}

var standInRule = Rule{
	ID: "inject/stand-in", Severity: finding.Error, Basis: finding.Observed,
	Doc: "In production, something whose class name says that it is a stand-in (Stub, Mock, Fake, Dummy, Sample) was handed out.",
	Not: "Other environments; packages that are named so; what was handed out among all only.",
	Tell: func(f *finding.Finding) {
		f.Title = sentence("%s answers for %s in production", f.Subject.Impl(), f.Subject.Name())
		f.Why = sentence("Its name says that it is a stand-in, and it was handed out %s.", times(f.Counts["instances"]))
		f.Fix = sentence("Register the real implementation of %s%s for this environment.", f.Subject.Name(), place(f.Subject))
	},
}

func (r *injected) See(c *ledger.Change) {
	switch c.What {
	case ledger.Made:
		r.made(c)
	case ledger.Bound:
		if c.Edge == nil || int(c.Edge.Slot) < 0 || c.Holder.Reg == nil {
			return
		}
		s := r.site(c.Holder.Reg, int(c.Edge.Slot))
		s.fills++
		if s.given.Service == "" {
			s.example.Let()
			s.given, s.name, s.example = c.Inst.Ref(), c.Edge.Site, c.Holder.Hold()
			s.madeAt = r.world.ScopesOpened
		}
	case ledger.Used:
		if c.Holder == nil || c.Holder.Reg == nil {
			return
		}
		r.of(c.Holder.Reg).uses = true
		for n := range c.Holder.Keeps {
			if e := &c.Holder.Keeps[n]; e.ID == c.Inst.ID && e.Slot >= 0 {
				r.site(c.Holder.Reg, int(e.Slot)).used = true
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

// sitesOf are what is known of one registration's needs.
type sitesOf struct {
	uses bool // it was seen to use anything
	list []*site
}

func (r *injected) of(reg *ledger.Registration) *sitesOf {
	if s, ok := reg.Tag(unusedTag).(*sitesOf); ok {
		return s
	}
	s := &sitesOf{}
	reg.SetTag(unusedTag, s)
	return s
}

func (r *injected) site(reg *ledger.Registration, slot int) *site {
	s := r.of(reg)
	for len(s.list) <= min(slot, maxSites-1) {
		s.list = append(s.list, &site{})
	}
	return s.list[min(slot, maxSites-1)]
}

// maxSites bounds how many needs of one registration are told apart.
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
	}
	if i.Reg == nil {
		return
	}
	for n := range c.Event.With {
		w := &c.Event.With[n]
		if w.Absent {
			s := r.site(i.Reg, w.Slot)
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
		for slot, s := range r.of(reg).list {
			r.unused(reg, s)
			r.absent(reg, slot, s)
		}
	}
	r.constructed()
	r.mixed()
	r.standIns()
}

func (r *injected) unused(reg *ledger.Registration, s *site) {
	enough := s.fills >= r.set.UnusedFills || s.fills > 0 && reg.Lifetime == ledger.Singleton && r.world.ScopesOpened-s.madeAt >= r.set.UnusedFills
	if s.used || !enough || !r.of(reg).uses || reg.Sees&ledger.SeesUse == 0 {
		return
	}
	holder := reg.Ref("")
	found := r.out.Report(Occurrence{
		Rule: &unusedRule, Subject: s.given, Holder: &holder, Site: s.name, Insts: []*ledger.Instance{s.example}, Scope: s.example.Scope, Line: s.example.MadeLine, T: s.example.Made,
	})
	found.Count("fills", s.fills)
	by(found, "unused_fills", r.set.UnusedFills)
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
	holder := reg.Ref("")
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
		if h.Given.Internal || h.Given.Local || h.Via != nil || h.Given.Service != a.Service || h.Given.Inner() != nil || len(g.Wrappers(h.Given)) > 0 || h.Given.HasKey {
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
			found := reportHandout(h, r.out, Occurrence{Rule: &standInRule, Subject: h.Given.Real().Ref(h.Impl())})
			by(found, "stand_ins", strings.Join(r.set.StandIns, ", "))
		}
	}
}

// standIn tells whether one of the words stands in the simple class name, as a word.
func standIn(impl string, standIns []string) bool {
	if cut := strings.IndexAny(impl, "<[("); cut > 0 {
		impl = impl[:cut]
	}
	if at := strings.LastIndexAny(impl, "./$+:\\"); at >= 0 {
		impl = impl[at+1:]
	}
	for _, w := range words(impl) {
		for _, s := range standIns {
			if strings.EqualFold(w, s) {
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
