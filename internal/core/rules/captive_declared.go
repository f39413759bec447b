package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// captiveDeclared reports captive/declared: by the registrations, a long-lived one would keep a scoped one.
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
	Not: "Where an observed captive/scoped of the same path reports it already; needs that are asked for later (lazy); proxies.",
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
	d := declaredWays{world: r.world, g: r.facts.Answers(), keeps: map[*ledger.Registration][]*ledger.Registration{}, far: map[*ledger.Registration]int{}}
	d.mark()
	for _, reg := range r.world.Registrations() {
		if reg.Known && reg.Lifetime.Long() && reg.Alias == nil && reg.Proxy == nil {
			d.left, d.turns = maxPairs, maxTurns
			d.follow([]*ledger.Registration{reg}, r.report)
		}
	}
}

// The bounds of following declared ways from one holder.
const (
	maxDeclared = 256  // registrations in one way
	maxTurns    = 4096 // needs that are gone along: circles of transients have ways without number that come to nothing
)

// declaredWays finds the ways on which registrations would keep scoped ones, through transients. How far it is from each registration to
// the nearest scoped one is worked out first, so that every way that is begun comes to an end in time: no part of the search is lost to
// ways that are too long.
type declaredWays struct {
	world *ledger.World
	g     *facts.Answers
	keeps map[*ledger.Registration][]*ledger.Registration // those first from which it is nearest
	far   map[*ledger.Registration]int                    // steps to the nearest scoped one; those from which no way leads to one are not in it
	left  int                                             // ways that may still be reported of one holder
	turns int                                             // and needs that may be gone along
}

// mark works out keeps and far, from the scoped ones back.
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
			case to.Lifetime == ledger.Scoped && d.far[reg] == 0:
				d.far[reg] = 1
				next = append(next, reg)
			}
		}
	}
	for n := 0; n < len(next); n++ {
		for _, from := range back[next[n]] {
			if d.far[from] == 0 {
				d.far[from] = d.far[next[n]] + 1
				next = append(next, from)
			}
		}
	}
	for _, list := range d.keeps {
		slices.SortStableFunc(list, func(a, b *ledger.Registration) int { return d.rest(a) - d.rest(b) })
	}
}

// rest returns how many steps it is from a registration to the nearest scoped one: 0 where it is one, more than any bound where no way leads
// to one.
func (d *declaredWays) rest(reg *ledger.Registration) int {
	switch {
	case reg.Proxy != nil:
	case reg.Lifetime == ledger.Scoped:
		return 0
	case reg.Lifetime == ledger.Transient && d.far[reg] > 0:
		return d.far[reg]
	}
	return maxDeclared
}

func (d *declaredWays) follow(path []*ledger.Registration, report func([]*ledger.Registration)) {
	list := d.keeps[path[len(path)-1]]
	d.world.Step(len(list))
	for _, target := range list {
		rest := d.rest(target)
		if d.left == 0 || d.turns == 0 || len(path)+rest >= maxDeclared {
			return // those behind it are as far, or farther
		}
		d.turns--
		if slices.Contains(path, target) {
			continue
		}
		if way := append(slices.Clone(path), target); rest == 0 {
			d.left--
			report(way)
		} else {
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
		if need.Lazy || need.How != "" && need.How != "constructor" && !(properties && event.Injected(need.How)) {
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
