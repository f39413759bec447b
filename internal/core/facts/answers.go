package facts

import "keenlantern.example/internal/core/ledger"

// Answers is what follows from the registrations alone: which one answers a request, and which layers are declared around
// which. It is read-only, and recomputed when a registration or container has changed since.
type Answers struct {
	named    map[ledger.Asked][]*ledger.Registration // by service and key, also included, in order
	services map[string][]*ledger.Registration
	wrappers map[*ledger.Registration][]*ledger.Registration
	aliases  map[*ledger.Registration][]*ledger.Registration
	declares map[string]bool // services of which some registration wraps
	answers  map[answerIn]*answer
	anywhere map[ledger.Asked]*ledger.Registration // the one that answers in any container; nil where several do
	anyKey   map[answerIn]*answer                  // templates that answer for any key, by their service without one
	reached  map[ledger.Asked]map[*ledger.Registration]struct{}
}

func newAnswers(w *ledger.World) *Answers {
	g := &Answers{
		named: map[ledger.Asked][]*ledger.Registration{}, services: map[string][]*ledger.Registration{},
		wrappers: map[*ledger.Registration][]*ledger.Registration{}, aliases: map[*ledger.Registration][]*ledger.Registration{}, declares: map[string]bool{},
		answers: map[answerIn]*answer{}, anywhere: map[ledger.Asked]*ledger.Registration{}, anyKey: map[answerIn]*answer{},
	}
	for _, r := range w.Registrations() {
		if !r.Known {
			continue
		}
		for _, a := range r.Names() {
			if r.Template&ledger.AnyKey != 0 && !a.HasKey {
				g.template(r, a)
				continue // it answers for any key, and not for none
			}
			if list := g.named[a]; len(list) > 0 && list[len(list)-1] == r {
				continue // one of its further names is its own
			}
			g.named[a] = append(g.named[a], r)
			g.services[a.Service] = append(g.services[a.Service], r)
		}
		if r.Wraps != nil {
			inner := r.Wraps.Real()
			g.wrappers[inner] = append(g.wrappers[inner], r)
			g.declares[r.Service], g.declares[inner.Service] = true, true
		}
		if r.Alias != nil {
			to := r.Real()
			g.aliases[to] = append(g.aliases[to], r)
		}
	}
	g.index()
	return g
}

// Answer returns the registration that answers a single request from container c: looked for in it, in its parents, and
// then in any other container if exactly one answers there; nil if none does or several would. Where the container that has
// it cannot choose between several, nothing answers. Aliases are not followed.
func (g *Answers) Answer(c *ledger.Container, a ledger.Asked) *ledger.Registration {
	for p := c; p != nil; p = p.Parent {
		if one := g.answers[answerIn{p, a}]; one != nil {
			return one.chosen(p)
		}
		if a.HasKey {
			if one := g.anyKey[answerIn{p, ledger.Asked{Service: a.Service}}]; one != nil {
				return one.chosen(p)
			}
		}
	}
	return g.anywhere[a]
}

// answerIn is a service and key in one container.
type answerIn struct {
	container *ledger.Container
	asked     ledger.Asked
}

// answer is who could answer there, wrapped ones apart: they answer where nothing else does.
type answer struct{ bare, wrapped candidates }

type candidates struct {
	first, last, primary *ledger.Registration
	n, primaries         int
}

func (c *candidates) add(r *ledger.Registration) {
	if c.n++; c.n == 1 {
		c.first = r
	}
	if c.last = r; r.Primary {
		c.primary = r
		c.primaries++
	}
}

// chosen returns the one that the container's rule for duplicates names, nil where it names none.
func (a *answer) chosen(c *ledger.Container) *ledger.Registration {
	of := &a.bare
	if of.n == 0 {
		of = &a.wrapped
	}
	switch {
	case of.n == 1:
		return of.first
	case c.Duplicates == "error":
		return nil
	case c.Duplicates == "primary":
		if of.primaries != 1 {
			return nil
		}
		return of.primary
	case c.Duplicates == "first":
		return of.first
	}
	return of.last
}

// template notes that r answers for any key of the service that a names.
func (g *Answers) template(r *ledger.Registration, a ledger.Asked) {
	g.services[a.Service] = append(g.services[a.Service], r)
	if r.Local {
		return
	}
	at := answerIn{r.Container, a}
	one := g.anyKey[at]
	if one == nil {
		one = &answer{}
		g.anyKey[at] = one
	}
	one.bare.add(r)
}

// index finds out who answers what, in each container and anywhere.
func (g *Answers) index() {
	for asked, list := range g.named {
		for _, r := range list {
			if r.Local {
				continue
			}
			at := answerIn{r.Container, asked}
			one := g.answers[at]
			if one == nil {
				one = &answer{}
				g.answers[at] = one
			}
			if g.everWrapped(r) || r.In != nil {
				one.wrapped.add(r)
			} else {
				one.bare.add(r)
			}
		}
	}
	for at, one := range g.answers {
		r := one.chosen(at.container)
		if r == nil {
			continue
		}
		if found, seen := g.anywhere[at.asked]; seen && found != r {
			r = nil // several would
		}
		g.anywhere[at.asked] = r
	}
}

// everWrapped reports whether a layer that applies everywhere wraps r.
func (g *Answers) everWrapped(r *ledger.Registration) bool {
	for _, w := range g.wrappers[r] {
		if w.In == nil && (!w.Local || r.Local) {
			return true
		}
	}
	return false
}

// Reaches reports whether a request for all, made from container c, reaches what is registered in container to: c's own and
// those around it.
func Reaches(c, to *ledger.Container) bool {
	for ; c != nil; c = c.Parent {
		if c == to {
			return true
		}
	}
	return false
}

// All returns the registrations that a request for all of a service and key may reach, in whatever container.
func (g *Answers) All(a ledger.Asked) []*ledger.Registration { return g.named[a] }

// Of returns the registrations under a service, of any key.
func (g *Answers) Of(service string) []*ledger.Registration { return g.services[service] }

// Services returns every service that has a registration.
func (g *Answers) Services() []string {
	list := make([]string, 0, len(g.services))
	for s := range g.services {
		list = append(list, s)
	}
	return list
}

// Uses reports whether r, an alias of it, or what looks it up is requested by a service and key.
func (g *Answers) Uses(r *ledger.Registration, a ledger.Asked) bool {
	if anyKeyOf(r, a) || r.FormOf != nil && r.FormOf.Known && !r.HasKey && anyKeyOf(r.FormOf, a) {
		return true
	}
	if g.reached == nil {
		g.reached = map[ledger.Asked]map[*ledger.Registration]struct{}{}
		for asked, list := range g.named {
			set := map[*ledger.Registration]struct{}{}
			for _, one := range list {
				set[one] = struct{}{}
				if one.Alias != nil {
					set[one.Real()] = struct{}{}
				}
			}
			g.reached[asked] = set
		}
	}
	set := g.reached[a]
	if _, ok := set[r]; ok {
		return true
	}
	if r.Proxy == nil {
		return false
	}
	for _, named := range r.Proxy.Names() {
		if named == a {
			return true
		}
	}
	return false
}

// anyKeyOf reports whether r answers for any key of the service that a asks for.
func anyKeyOf(r *ledger.Registration, a ledger.Asked) bool {
	if r.Template&ledger.AnyKey == 0 || !a.HasKey {
		return false
	}
	for _, name := range r.Names() {
		if name.Service == a.Service && !name.HasKey {
			return true
		}
	}
	return false
}

// Wrappers returns the registrations that wrap r; Aliases those that are answered with r's instance.
func (g *Answers) Wrappers(r *ledger.Registration) []*ledger.Registration { return g.wrappers[r] }
func (g *Answers) Aliases(r *ledger.Registration) []*ledger.Registration  { return g.aliases[r] }

// Declares reports whether any registration of the service wraps or is wrapped.
func (g *Answers) Declares(service string) bool { return g.declares[service] }

// Outermost follows wrappers outwards.
func (g *Answers) Outermost(r *ledger.Registration) *ledger.Registration {
	for range 32 {
		outer := g.wrappers[r]
		if len(outer) == 0 {
			return r
		}
		r = outer[len(outer)-1]
	}
	return r
}
