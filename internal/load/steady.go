package load

import (
	"fmt"

	"keenlantern.example/record/event"
)

// Steadily is what a trace that Steady writes is like. What is 0 is usual: ten registrations, one request at a time, chains of
// two, one name.
type Steadily struct {
	Registrations int // all are scoped
	Open          int // requests that run at once
	Chain         int // instances that keep each other, in one request
	Names         int // different names of requests
}

// Steady writes about so many events of an application whose requests all do the same: eight instances, each of which keeps
// the one before (as many of them as a chain has, if that is more), is used once and disposed.
func Steady(of Steadily, events int) []byte {
	usual := func(n *int, value int) {
		if *n == 0 {
			*n = value
		}
	}
	usual(&of.Open, 1)
	usual(&of.Chain, 2)
	usual(&of.Names, 1)
	makes := max(8, of.Chain)
	usual(&of.Registrations, max(10, makes)) // so that none is met twice in one scope
	p := newPen("steady")
	for r := 1; r <= of.Registrations; r++ {
		p.b = fmt.Appendf(p.b, `{"ev":"register","t":1,"reg":%d,"service":"Service%05d","lifetime":"scoped","disposable":true}`+"\n", r, r)
	}
	type request struct {
		scope event.ScopeID
		first event.InstID
	}
	var open []request
	inst := event.InstID(1)
	end := func(t int64) {
		one := open[0]
		open = open[1:]
		for n := makes - 1; n >= 0; n-- {
			p.disposed(t, one.first+event.InstID(n), one.scope)
		}
		p.closed(t+1, one.scope)
	}
	requests := max(1, events/(2+3*makes))
	for k := range requests {
		t := int64(k) * 1_000_000
		one := request{event.ScopeID(k + 1), inst}
		p.e.Scope, p.e.ScopeKind, p.e.Name = one.scope, "request", fmt.Sprintf("GET /office/%06d", k%of.Names)
		p.say(event.Open, t, event.FScope, event.FKind, event.FName)
		for n := range makes {
			reg := event.RegID((k*makes+n)%of.Registrations + 1)
			at := t + 1000*int64(n+1)
			if n%of.Chain == 0 {
				p.made(at, inst, reg, one.scope, 500)
			} else {
				p.made(at, inst, reg, one.scope, 500, event.With{Inst: inst - 1})
				p.used(at+100, inst-1, inst, one.scope)
			}
			inst++
		}
		if open = append(open, one); len(open) >= of.Open {
			end(t + 900_000)
		}
	}
	for len(open) > 0 {
		end(int64(requests) * 1_000_000)
	}
	p.b = fmt.Appendf(p.b, `{"ev":"bye","t":%d}`+"\n", int64(requests)*1_000_000+1)
	return p.b
}
