package ledger

import "keenlantern.example/record/event"

// Wiring is what follows from the registrations alone: which one answers, and which layers lie around which. It is made
// anew when a registration has changed since.
type Wiring struct {
	named    map[Asked][]*Registration // by service and key, also included, in order
	services map[string][]*Registration
	wrappers map[*Registration][]*Registration
	aliases  map[*Registration][]*Registration
	declares map[string]bool // services of which some registration wraps
	answers  map[answerIn]*answer
	anywhere map[Asked]*Registration // the one that answers in any container; nil where several do
	reached  map[Asked]map[*Registration]struct{}
}

// Asked is a service and key as somebody asks for them.
type Asked struct {
	Service string
	Key     string
	HasKey  bool
}

// Wiring returns the wiring as it is known now. It is read-only.
func (w *World) Wiring() *Wiring {
	if w.wiring == nil {
		w.wiring = newWiring(w)
	}
	return w.wiring
}

func newWiring(w *World) *Wiring {
	g := &Wiring{
		named: map[Asked][]*Registration{}, services: map[string][]*Registration{},
		wrappers: map[*Registration][]*Registration{}, aliases: map[*Registration][]*Registration{}, declares: map[string]bool{},
		answers: map[answerIn]*answer{}, anywhere: map[Asked]*Registration{},
	}
	for _, r := range w.Registrations() {
		if !r.Known {
			continue
		}
		for _, a := range r.Names() {
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

// Asked returns the service and key that r is registered as.
func (r *Registration) Asked() Asked { return Asked{r.Service, r.Key, r.HasKey} }

// Names returns the services and keys that r answers to, the one it is registered as first.
func (r *Registration) Names() []Asked {
	names := []Asked{r.Asked()}
	for _, a := range r.Also {
		names = append(names, Asked{a.Service, a.Key, a.HasKey})
	}
	return names
}

// Real follows aliases to the registration whose instance is handed out.
func (r *Registration) Real() *Registration {
	for range 16 {
		if r.Alias == nil {
			return r
		}
		r = r.Alias
	}
	return r
}

// Inner returns what r wraps, aliases followed, nil if it wraps nothing.
func (r *Registration) Inner() *Registration {
	if r.Wraps == nil {
		return nil
	}
	return r.Wraps.Real()
}

// Answer returns the registration that answers a single request from container c: looked for in it, in its parents, and
// then in any other container if exactly one answers there; nil if none does or several would. Aliases are not followed.
func (g *Wiring) Answer(c *Container, a Asked) *Registration {
	for p := c; p != nil; p = p.Parent {
		if r := g.answers[answerIn{p, a}].chosen(p); r != nil {
			return r
		}
	}
	return g.anywhere[a]
}

// answerIn is a service and key in one container.
type answerIn struct {
	container *Container
	asked     Asked
}

// answer says who could answer there, wrapped ones apart: they answer where nothing else does.
type answer struct{ bare, wrapped candidates }

type candidates struct{ first, last, primary *Registration }

func (c *candidates) add(r *Registration) {
	if c.first == nil {
		c.first = r
	}
	if c.last = r; r.Primary && c.primary == nil {
		c.primary = r
	}
}

// chosen returns the one that the container's rule for duplicates names, nil where there is none.
func (a *answer) chosen(c *Container) *Registration {
	if a == nil {
		return nil
	}
	of := &a.bare
	if of.first == nil {
		of = &a.wrapped
	}
	switch {
	case c.Duplicates == "first":
		return of.first
	case c.Duplicates == "primary" && of.primary != nil:
		return of.primary
	}
	return of.last
}

// index finds out who answers what, in each container and anywhere.
func (g *Wiring) index() {
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
			if len(g.wrappers[r]) > 0 {
				one.wrapped.add(r)
			} else {
				one.bare.add(r)
			}
		}
	}
	for at, one := range g.answers {
		r := one.chosen(at.container)
		if found, seen := g.anywhere[at.asked]; seen && found != r {
			r = nil // several would
		}
		g.anywhere[at.asked] = r
	}
}

// All returns the registrations that a request for all of a service and key may reach, in whatever container.
func (g *Wiring) All(a Asked) []*Registration { return g.named[a] }

// Of returns the registrations under a service, of any key.
func (g *Wiring) Of(service string) []*Registration { return g.services[service] }

// Services returns every service that somebody answers to.
func (g *Wiring) Services() []string {
	list := make([]string, 0, len(g.services))
	for s := range g.services {
		list = append(list, s)
	}
	return list
}

// GoesBy tells whether r, an alias of it, or what looks it up goes by a service and key.
func (g *Wiring) GoesBy(r *Registration, a Asked) bool {
	if g.reached == nil {
		g.reached = map[Asked]map[*Registration]struct{}{}
		for asked, list := range g.named {
			set := map[*Registration]struct{}{}
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

// Wrappers returns the registrations that wrap r; Aliases those that are answered with r's instance.
func (g *Wiring) Wrappers(r *Registration) []*Registration { return g.wrappers[r] }
func (g *Wiring) Aliases(r *Registration) []*Registration  { return g.aliases[r] }

// Declares tells whether any registration of the service wraps or is wrapped.
func (g *Wiring) Declares(service string) bool { return g.declares[service] }

// Outermost follows wrappers outwards.
func (g *Wiring) Outermost(r *Registration) *Registration {
	for range 32 {
		outer := g.wrappers[r]
		if len(outer) == 0 {
			return r
		}
		r = outer[len(outer)-1]
	}
	return r
}

// Within tells whether following wraps inwards from r comes to inner.
func (r *Registration) Within(inner *Registration) bool {
	for range 32 {
		if r = r.Inner(); r == nil {
			return false
		}
		if r == inner {
			return true
		}
	}
	return false
}

// AskedAt returns what a constructor need at a position of with asks for.
func (r *Registration) AskedAt(slot int) *event.Need {
	for n := range r.Needs {
		need := &r.Needs[n]
		if need.Lazy || need.How != "" && need.How != "constructor" {
			continue
		}
		if slot == 0 {
			return need
		}
		slot--
	}
	return nil
}
