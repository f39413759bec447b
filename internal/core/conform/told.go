package conform

import (
	"cmp"
	"maps"
	"slices"

	"keenlantern.example/record/event"
)

// part counts how many of some lines have a field.
type part struct{ have, of int64 }

func (p *part) add(has bool) {
	p.of++
	if has {
		p.have++
	}
}

// told counts the optional fields that a recorder writes.
type told struct {
	hello, impl, lifetime, at, needs, disposable part
	scopeName, scopeKind                         part
	reg, with, ns                                part
	asker, user                                  part
	gives, uses, disposals, fails                int64
}

func (t *told) register(e *event.Event) {
	t.impl.add(e.Impl != "")
	t.lifetime.add(e.Lifetime != "")
	t.at.add(e.At != "")
	t.needs.add(e.Has.Has(event.FNeeds))
	t.disposable.add(e.Has.Has(event.FDisposable))
}

func (t *told) make(e *event.Event, _ *stream) {
	t.reg.add(e.Has.Has(event.FReg))
	t.with.add(e.Has.Has(event.FWith))
	t.ns.add(e.Has.Has(event.FNS))
}

func (t *told) list() []Told {
	out := []Told{}
	add := func(p part, what, means string) {
		if p.of > 0 {
			out = append(out, Told{what, p.have, p.of, means})
		}
	}
	count := func(n int64, what, means string) {
		out = append(out, Told{what, n, n, means})
	}
	add(t.hello, "hello with version", "two versions in one recording cannot be compared")
	add(t.lifetime, "register with lifetime", "no lifetime is known to be in force: rules use what was seen alone")
	add(t.impl, "register with impl", "findings cannot name the implementation until one is built")
	add(t.at, "register with at", "findings cannot show where in the source to change something")
	add(t.needs, "register with needs", "what is declared and never built is not seen; sites have no names")
	add(t.disposable, "register with disposable", "leaks are seen only where makes have disposable")
	add(t.scopeName, "open with name", "requests cannot be grouped by name")
	add(t.scopeKind, "open with kind", "requests, jobs and messages look the same")
	add(t.reg, "make with reg", "an instance without one counts as built past the container")
	add(t.with, "make with with", "who keeps what is not seen: no captive, no wiring, no sharing board")
	add(t.ns, "make with ns", "what construction costs is not seen")
	count(t.gives, "gives", "what entry points and later receivers are given is not seen")
	add(t.asker, "give with to or entry", "who asked is not seen")
	count(t.uses, "uses", "uses after the end, crossings and what is never used are not seen")
	add(t.user, "use with by", "who used it is not seen")
	count(t.disposals, "disposals", "leaks cannot be distinguished from unseen disposals")
	count(t.fails, "fails", "what could not be built is not seen; there may have been none")
	return out
}

func sorted[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }
