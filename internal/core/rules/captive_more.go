package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
)

// captiveRoot reports captive/root: a scoped instance at home in the root that nothing keeps, but for transients of the
// root that nothing keeps: it was asked for outside any scope. Not: proxies.
type captiveRoot struct {
	facts      facts.Granted `freeze:"-"`
	out        Reporter
	world      *ledger.World
	candidates []*ledger.Instance
}

var captiveRootRule = Rule{
	ID: "captive/root", Severity: finding.Error, Basis: finding.Observed,
	Doc:   "A scoped registration's instance lives in the root although nothing keeps it: it was asked for outside any scope.",
	Not:   "One that something keeps (that is captive/scoped, or somebody's own business); a proxy.",
	Needs: ledger.SeesWith,
	Tell: func(f *finding.Finding) {
		name := f.Subject.Name()
		f.Title = sentence("%s is scoped, and was asked for outside any scope", name)
		f.Why = sentence("%s of %s%s %s in the root, where every later request for it outside a scope gets the same one and nothing ends it before the process does.",
			count(f.Counts["instances"], "instance", "instances"), name, implementedBy(f.Subject), plural(int(f.Counts["instances"]), "lives", "live"))
		f.Fix = sentence("Open a scope where %s%s is asked for and ask in it, or register it as a singleton if one for the whole process is meant.", name, place(f.Subject))
	},
}

// maxCandidates bounds what a rule keeps to judge at the end.
const maxCandidates = 10_000

func (r *captiveRoot) See(c *ledger.Change) {
	i := c.Inst
	if i.Lifetime() == ledger.Scoped && i.Home() != nil && i.Home() == i.Root() && !i.Proxy() && len(r.candidates) < maxCandidates {
		r.candidates = append(r.candidates, i)
	}
}

// Judge waits until all keepers are known.
func (r *captiveRoot) Judge() {
	for _, i := range r.candidates {
		if i.Sees(r.world)&ledger.SeesWith == 0 || facts.Held(i) || i.Lifetime() != ledger.Scoped {
			continue
		}
		r.out.Report(Occurrence{
			Rule: &captiveRootRule, Subject: i.Ref(), Scope: i.Scope, Insts: []*ledger.Instance{i}, Line: i.MadeLine, T: i.Made,
		}).Count("instances", 1)
	}
}

// captiveTransient reports captive/transient: a singleton, per-consumer or external holder keeps a transient directly.
// Graver when the transient is disposable, and an error when it must not be shared and was used in two scopes.
type captiveTransient struct {
	out Reporter
	set *Settings
}

type heldTransient struct {
	cases  []Case
	scope  *ledger.Scope
	shared bool
}

var captiveTransientRule = Rule{
	ID: "captive/transient", Severity: finding.Error, Basis: finding.Observed,
	Doc: "A singleton, per-consumer or external holder keeps a transient, which so lives as long as the holder: a note, a warning when it is disposable, an error when it must not be shared and was used in two scopes.",
	Not: "A transient kept through another one, which is reported where it is kept directly; anything behind a proxy.",
	Tell: func(f *finding.Finding) {
		holder, kept := f.Holder.Name(), f.Subject.Name()
		f.Title = sentence("%s, %s, keeps %s, which is transient", holder, lifetimeOf(*f.Holder), article(kept))
		f.Why = sentence("%s is meant to be built anew for whoever asks, but the one that %s keeps lives as long as %s does.", kept, holder, holder)
		switch f.Severity {
		case finding.Error:
			f.Why += " " + sentence("It must not be used by two scopes at the same time, and was used in several.")
		case finding.Warning:
			f.Why += " " + sentence("It is disposable: %s goes on holding it after whoever owns it has disposed it, or keeps it from being disposed.", holder)
		}
		f.Fix = sentence("Give %s%s a way to ask for %s when it needs one, or register %s%s with the lifetime it really has.", holder, place(*f.Holder), article(kept), kept, place(f.Subject))
	},
}

func (r *captiveTransient) See(c *ledger.Change) {
	d := c.Inst
	if c.What == ledger.Used {
		if d.Lifetime() != ledger.Transient || c.Scope == nil || !r.set.mustNotShare(d) {
			return
		}
		held := heldOf(d) // uses before it is kept count too
		if held.shared {
			return
		}
		if held.scope == nil {
			held.scope = c.Scope
		} else if held.scope != c.Scope {
			held.shared = true
			for _, k := range held.cases {
				k.Grave(finding.Error)
			}
		}
		return
	}
	h := c.Holder
	if d.Lifetime() != ledger.Transient || d.Proxy() || !h.Lifetime().Long() || h.Lifetime() == ledger.External && h.Home() != h.Root() {
		return
	}
	held := heldOf(d)
	severity := finding.Note
	if d.Disposable() {
		severity = finding.Warning
	}
	if held.shared {
		severity = finding.Error
	}
	holder := h.Ref()
	found := r.out.Report(Occurrence{
		Rule: &captiveTransientRule, Severity: severity, Subject: d.Ref(), Holder: &holder, Path: []finding.Ref{holder, d.Ref()},
		Scope: d.Scope, Insts: []*ledger.Instance{d, h}, Roles: []string{"kept", "holder"}, Line: max(d.MadeLine, h.MadeLine), T: max(d.Made, h.Made),
	})
	found.Count("instances", 1)
	held.cases = append(held.cases, found)
}

func heldOf(d *ledger.Instance) *heldTransient {
	held, _ := d.Tag(captiveTransientTag).(*heldTransient)
	if held == nil {
		held = &heldTransient{}
		d.SetTag(captiveTransientTag, held)
	}
	return held
}

// captiveDeclared reports captive/declared: by what the registrations say, a long-lived one would keep a scoped one.
// Not: where this recording shows it happening, for which captive/scoped speaks; lazy needs; proxies.
type captiveDeclared struct {
	facts facts.Granted `freeze:"-"`
	world *ledger.World
	out   Reporter
	known *Shared
}

var captiveDeclaredRule = Rule{
	ID: "captive/declared", Severity: finding.Warning, Basis: finding.Declared,
	Doc: "By what the registrations ask for, a singleton, per-consumer or external one would keep a scoped one.",
	Not: "Where an observed captive/scoped of the same path says so already; needs that are asked for later (lazy); proxies.",
	Tell: func(f *finding.Finding) {
		holder, kept := f.Holder.Name(), f.Subject.Name()
		f.Title = sentence("%s, %s, asks for %s, which is scoped", holder, lifetimeOf(*f.Holder), kept)
		f.Why = sentence("Built as registered, %s would keep the %s of the scope it is first asked for in, for as long as %s lives.", holder, kept, holder)
		if len(f.Path) > 2 {
			f.Why += " " + sentence("It would get there through %s.", names(f.Path[1:len(f.Path)-1]))
		}
		f.Fix = sentence("Register %s%s as scoped, or let it ask for %s%s in each scope.", holder, place(*f.Holder), kept, place(f.Subject))
	},
}

func (r *captiveDeclared) See(*ledger.Change) {}

func (r *captiveDeclared) Judge() {
	d := declaredWays{world: r.world, g: r.facts.Answers(), keeps: map[*ledger.Registration][]*ledger.Registration{}, leads: map[*ledger.Registration]bool{}}
	d.mark()
	for _, reg := range r.world.Registrations() {
		if reg.Known && reg.Lifetime.Long() && reg.Alias == nil && reg.Proxy == nil {
			d.left = maxPairs
			d.follow([]*ledger.Registration{reg}, r.report)
		}
	}
}

// declaredWays finds the ways on which registrations would keep scoped ones, through transients.
type declaredWays struct {
	world *ledger.World
	g     *facts.Answers
	keeps map[*ledger.Registration][]*ledger.Registration
	leads map[*ledger.Registration]bool // transients from which a way leads to a scoped one
	left  int                           // ways that may still be told of one holder
}

// mark works out leads, so that only ways that come to something are followed.
func (d *declaredWays) mark() {
	back := map[*ledger.Registration][]*ledger.Registration{}
	var next []*ledger.Registration
	for _, reg := range d.world.Registrations() {
		if !reg.Known || reg.Lifetime != ledger.Transient && !reg.Lifetime.Long() {
			continue
		}
		list := kept(d.g, reg)
		d.keeps[reg] = list
		d.world.Step(1 + len(list))
		for _, to := range list {
			switch {
			case to.Proxy != nil:
			case to.Lifetime == ledger.Transient:
				back[to] = append(back[to], reg)
			case to.Lifetime == ledger.Scoped && !d.leads[reg]:
				d.leads[reg] = true
				next = append(next, reg)
			}
		}
	}
	for len(next) > 0 {
		at := next[len(next)-1]
		next = next[:len(next)-1]
		for _, from := range back[at] {
			if !d.leads[from] {
				d.leads[from] = true
				next = append(next, from)
			}
		}
	}
}

func (d *declaredWays) follow(path []*ledger.Registration, report func([]*ledger.Registration)) {
	at := path[len(path)-1]
	if len(path) > maxSteps || !d.leads[at] {
		return
	}
	d.world.Step(len(d.keeps[at]))
	for _, target := range d.keeps[at] {
		if d.left == 0 {
			return
		}
		if target.Proxy != nil || slices.Contains(path, target) {
			continue
		}
		switch way := append(slices.Clone(path), target); {
		case target.Lifetime == ledger.Scoped:
			d.left--
			report(way)
		case target.Lifetime == ledger.Transient:
			d.follow(way, report)
		}
	}
}

func (r *captiveDeclared) report(path []*ledger.Registration) {
	if r.known.captivePaths[pathKey(path)] {
		return
	}
	holder, subject := path[0].Ref(""), path[len(path)-1].Ref("")
	refs := make([]finding.Ref, len(path))
	services := make([]string, len(path))
	for n, p := range path {
		refs[n], services[n] = p.Ref(""), p.Service
	}
	r.out.Report(Occurrence{
		Rule: &captiveDeclaredRule, Subject: subject, Holder: &holder, Path: refs, Line: path[0].Line, T: path[0].T,
		Because: r.known.refusedPaths[strings.Join(services, "\x00")],
	}).Count("registrations", 1)
}

// pathKey names a path of registrations.
func pathKey(path []*ledger.Registration) string {
	var b strings.Builder
	for _, p := range path {
		b.WriteString(p.Real().Asked().Service)
		b.WriteByte(0)
		b.WriteString(number(int64(p.ID)))
		b.WriteByte(1)
	}
	return b.String()
}

// kept lists the registrations that an instance of r would keep, by its needs and by what it wraps: aliases followed.
func kept(g *facts.Answers, r *ledger.Registration) []*ledger.Registration {
	list, own := needed(g, r, true)
	if inner := r.Inner(); inner != nil && !own {
		list = append(list, inner)
	}
	return list
}

// maxAll bounds how many of all registrations of a service one need is followed to.
const maxAll = 1000

// needed lists the registrations that building r asks for by needs that are not lazy, by constructor or (where properties
// are meant too) by property: aliases followed, and a layer's need of its own service answered by what it wraps. Own tells
// whether there is such a need. All of one's own service do not include oneself.
func needed(g *facts.Answers, r *ledger.Registration, properties bool) (list []*ledger.Registration, own bool) {
	inner := r.Inner()
	for n := range r.Needs {
		need := &r.Needs[n]
		if need.Lazy || need.How != "" && need.How != "constructor" && !(properties && need.How == "property") {
			continue
		}
		asked := ledger.Asked{Service: need.Service, Key: need.Key, HasKey: need.HasKey}
		switch {
		case inner != nil && !own && !need.All && (asked == inner.Asked() || need.Service == r.Service || need.Service == inner.Service):
			own = true
			list = append(list, inner)
		case need.All:
			all := g.All(asked)
			for _, a := range all[:min(len(all), maxAll)] {
				if real := a.Real(); real != r && !a.Local && facts.Reaches(r.Container, a.Container) {
					list = append(list, real)
				}
			}
		default:
			if a := g.Answer(r.Container, asked); a != nil {
				list = append(list, a.Real())
			}
		}
	}
	return list, own
}
