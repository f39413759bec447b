package load

import (
	"fmt"
	"strings"

	"keenlantern.example/record/event"
)

// Writer writes one stream, piece by piece. What a call returns is good until the next one.
type Writer interface {
	Requests(n int) []byte // the next n requests
	End() []byte           // closes what is open and says bye
}

// Shape is a kind of application that traces are made up of.
type Shape struct {
	Name string
	Says string                               // what is particular about it
	Each int                                  // lines of one request, about
	New  func(stream string, open int) Writer // open: how many requests run at once, 1 or more
}

// Shapes are those that speed is measured for.
var Shapes = []Shape{
	{"light", "17 makes in 100 events, 60 registrations", EventsEach, func(s string, open int) Writer { return NewOffice(s, open-1) }},
	{"heavy", "44 makes in 100 events, 40 registrations, nested constructions", 50, newHeavy},
	{"wide", "26 makes in 100 events, 2000 registrations with names of 60 bytes, keys, layers, nested scopes", 23, newWide},
}

// Enterprise is an application of ordinary size, with long names, many mistakes of few causes, and requests of 5 to 600 instances.
var Enterprise = Shape{"enterprise", "3000 registrations with names of each runtime, 120 endpoints, requests of 5 to 600 instances", 75, newEnterprise}

// pen writes lines.
type pen struct {
	b []byte
	e event.Event
}

func newPen(stream string) pen {
	p := pen{e: event.Event{Count: 1, Weight: 1}}
	p.b = fmt.Appendf(p.b, `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":%q,"start":"2026-03-02T05:40:00.000000000Z"}`+"\n", stream)
	return p
}

func (p *pen) say(kind event.Kind, t int64, fields ...event.Field) {
	p.e.Kind, p.e.T, p.e.Has = kind, t, event.Of(fields...)
	p.b = event.AppendLine(p.b, &p.e)
}

func (p *pen) take() []byte {
	b := p.b
	p.b = b[len(b):]
	if cap(p.b) < 64<<10 {
		p.b = make([]byte, 0, 1<<20)
	}
	return b
}

func (p *pen) made(t int64, inst event.InstID, reg event.RegID, scope event.ScopeID, ns int64, with ...event.With) {
	p.e.Inst, p.e.Reg, p.e.Scope, p.e.NS, p.e.With = inst, reg, scope, ns, with
	for n := range with {
		with[n].Slot = n
	}
	if len(with) == 0 {
		p.say(event.Make, t, event.FInst, event.FReg, event.FScope, event.FNS)
		return
	}
	p.say(event.Make, t, event.FInst, event.FReg, event.FScope, event.FNS, event.FWith)
}

func (p *pen) used(t int64, inst, by event.InstID, scope event.ScopeID) {
	p.e.Inst, p.e.User, p.e.Scope, p.e.NS = inst, by, scope, 500
	p.say(event.Use, t, event.FInst, event.FScope, event.FBy, event.FNS)
}

func (p *pen) disposed(t int64, inst event.InstID, scope event.ScopeID) {
	p.e.Inst, p.e.Scope = inst, scope
	p.say(event.Dispose, t, event.FInst, event.FScope)
}

func (p *pen) closed(t int64, scope event.ScopeID) {
	p.e.Scope = scope
	p.say(event.Close, t, event.FScope)
}

// heavy is an application that builds much for each request and calls little of it.
type heavy struct {
	pen
	inst event.InstID
	k    int
	open []heavyRequest // the oldest first
	most int            // at once
}

type heavyRequest struct {
	scope event.ScopeID
	first event.InstID
	k     int
}

const (
	heavySingles = 8
	heavyOthers  = 32
	heavyMakes   = 22
	heavyUses    = 17
)

func heavyDisposable(reg event.RegID) bool { return reg%3 == 0 }

func newHeavy(stream string, open int) Writer {
	h := &heavy{pen: newPen(stream), most: max(1, open)}
	for r := 1; r <= heavySingles+heavyOthers; r++ {
		lifetime := "singleton"
		if r > heavySingles {
			lifetime = []string{"scoped", "scoped", "transient"}[r/2%3]
		}
		h.b = fmt.Appendf(h.b, `{"ev":"register","t":1,"reg":%d,"service":"harbour.office.Service%02d","lifetime":"%s","disposable":%t}`+"\n",
			r, r, lifetime, r > heavySingles && heavyDisposable(event.RegID(r)))
	}
	for range heavySingles {
		h.inst++
		h.made(2, h.inst, event.RegID(h.inst), 0, 1000)
	}
	return h
}

func heavyReg(k, j int) event.RegID {
	return event.RegID(heavySingles + 1 + (7*j+3*(k%10))%heavyOthers)
}

func (h *heavy) Requests(n int) []byte {
	for range n {
		k := h.k
		h.k++
		t := int64(k) * 100_000
		one := heavyRequest{event.ScopeID(k + 1), h.inst + 1, k}
		e := &h.e
		e.Scope, e.ScopeKind, e.Name, e.Entry = one.scope, "request", fmt.Sprintf("POST /arrivals/%02d", k%10), "handle"
		h.say(event.Open, t, event.FScope, event.FKind, event.FName)
		for j := range heavyMakes {
			h.inst++
			with := make([]event.With, 0, 2)
			if j%4 != 0 { // what was made last was made for this one, and within its time
				with = append(with, event.With{Inst: h.inst - 1})
			}
			with = append(with, event.With{Inst: event.InstID(j%heavySingles + 1)})
			h.made(t+1000*int64(j+1), h.inst, heavyReg(k, j), one.scope, 500+1000*int64(j%4), with...)
		}
		e.Inst = h.inst
		h.say(event.Give, t+30_000, event.FInst, event.FScope, event.FEntry)
		for u := range heavyUses {
			h.used(t+31_000+1000*int64(u), one.first+event.InstID(u), h.inst, one.scope)
		}
		if h.open = append(h.open, one); len(h.open) >= h.most {
			h.close(t + 60_000)
		}
	}
	return h.take()
}

// close ends the request that has run longest. Every thousandth leaves one undisposed.
func (h *heavy) close(t int64) {
	one := h.open[0]
	h.open = h.open[1:]
	for j := heavyMakes - 1; j >= 0; j-- {
		if heavyDisposable(heavyReg(one.k, j)) && (one.k%1000 != 0 || j > 4) {
			h.disposed(t, one.first+event.InstID(j), one.scope)
		}
	}
	h.closed(t+100, one.scope)
}

func (h *heavy) End() []byte {
	t := int64(h.k) * 100_000
	for len(h.open) > 0 {
		h.close(t)
	}
	h.b = fmt.Appendf(h.b, `{"ev":"bye","t":%d}`+"\n", t+1000)
	return h.take()
}

// wide is a large application: sessions with requests with units of work, each building a few of two thousand services.
type wide struct {
	pen
	inst    event.InstID
	scope   event.ScopeID
	session event.ScopeID
	singles map[event.RegID]event.InstID
	k       int
	open    []wideRequest
	most    int
}

type wideRequest struct {
	request, unit event.ScopeID
	made          []event.InstID // that are to be disposed
}

const (
	wideRegs    = 2000
	wideMakes   = 8
	wideSession = 50 // requests in one
)

func wideName(what string, n int) string {
	name := fmt.Sprintf("example.saltmarsh.harbour.module%02d.%s%04d", n%40, what, n)
	return name + strings.Repeat("x", max(0, 60-len(name)))
}

func wideLifetime(reg event.RegID) string {
	return []string{"singleton", "scoped", "transient"}[reg/10%3]
}

func wideDisposable(reg event.RegID) bool { return reg/10%3 == 1 && reg%2 == 1 }

// wideKey returns the key that a registration, or what it is a layer around, is registered under.
func wideKey(reg event.RegID) (string, bool) {
	return fmt.Sprintf("berth-%d", reg%7), reg/10%5 == 0
}

// wideLayer reports whether a registration is a layer around the one before it.
func wideLayer(reg event.RegID) bool { return reg%10 == 9 }

func newWide(stream string, open int) Writer {
	w := &wide{pen: newPen(stream), most: max(1, open), singles: map[event.RegID]event.InstID{}}
	for r := event.RegID(1); r <= wideRegs; r++ {
		service := int(r)
		if wideLayer(r) {
			service--
		}
		w.b = fmt.Appendf(w.b, `{"ev":"register","t":1,"reg":%d,"service":%q,"impl":%q,"lifetime":"%s"`,
			r, wideName("Service", service), wideName("Implementation", int(r)), wideLifetime(r))
		if key, keyed := wideKey(event.RegID(service)); keyed {
			w.b = fmt.Appendf(w.b, `,"key":%q`, key)
		}
		if wideLayer(r) {
			w.b = fmt.Appendf(w.b, `,"wraps":%d`, r-1)
		}
		w.b = fmt.Appendf(w.b, `,"disposable":%t}`+"\n", wideDisposable(r))
	}
	return w
}

func (w *wide) enter(t int64, in event.ScopeID, kind, name string) event.ScopeID {
	w.scope++
	w.e.Scope, w.e.InScope, w.e.ScopeKind, w.e.Name = w.scope, in, kind, name
	if in == 0 {
		w.say(event.Open, t, event.FScope, event.FKind, event.FName)
	} else {
		w.say(event.Open, t, event.FScope, event.FIn, event.FKind, event.FName)
	}
	return w.scope
}

func (w *wide) Requests(n int) []byte {
	for range n {
		k := w.k
		w.k++
		t := int64(k) * 100_000
		if k%wideSession == 0 {
			if w.session > 0 {
				for len(w.open) > 0 {
					w.close(t)
				}
				w.closed(t, w.session)
			}
			w.session = w.enter(t, 0, "session", "watch on the quay")
		}
		one := wideRequest{}
		one.request = w.enter(t, w.session, "request", wideName("POST /arrivals/", k%300))
		one.unit = w.enter(t+100, one.request, "unit", "unit of work")
		var last event.InstID
		for j := range wideMakes {
			// Seven tens of registrations further each time: no two of one unit are the same.
			reg := event.RegID((k*wideMakes+j)*70%(wideRegs-10) + k%8 + 1)
			if wideLayer(reg) {
				reg--
			}
			at := t + 1000*int64(j+1)
			id := w.build(at, reg, last, &one)
			if last != 0 {
				w.used(at+100, last, id, one.unit)
			}
			if wideLayer(reg + 1) {
				inner := id
				id = w.build(at+400, reg+1, inner, &one)
				w.used(at+450, inner, id, one.unit)
			}
			e := &w.e
			e.Inst, e.Scope, e.Entry, e.Service, e.How = id, one.unit, "handle", wideName("Service", int(reg)), "locator"
			switch key, keyed := wideKey(reg); {
			case j%2 == 1: // something that was built before asked for it
			case keyed:
				e.Key = key
				w.say(event.Give, at+500, event.FInst, event.FScope, event.FEntry, event.FService, event.FKey, event.FHow)
			default:
				w.say(event.Give, at+500, event.FInst, event.FScope, event.FEntry, event.FService, event.FHow)
			}
			if wideLifetime(reg) != "singleton" {
				last = id
			}
		}
		if w.open = append(w.open, one); len(w.open) >= w.most {
			w.close(t + 60_000)
		}
	}
	return w.take()
}

// build makes an instance of a registration, or returns the one there is.
func (w *wide) build(t int64, reg event.RegID, with event.InstID, one *wideRequest) event.InstID {
	single := wideLifetime(reg) == "singleton"
	if id := w.singles[reg]; id != 0 {
		return id
	}
	w.inst++
	id := w.inst
	switch {
	case with == 0 || single && !wideLayer(reg):
		w.made(t, id, reg, one.unit, 300)
	default:
		w.made(t, id, reg, one.unit, 300, event.With{Inst: with, Site: "inner", Service: ""})
	}
	if single {
		w.singles[reg] = id
	}
	if wideDisposable(reg) {
		one.made = append(one.made, id)
	}
	return id
}

func (w *wide) close(t int64) {
	one := w.open[0]
	w.open = w.open[1:]
	for n := len(one.made) - 1; n >= 0; n-- {
		w.disposed(t, one.made[n], one.unit)
	}
	w.closed(t+100, one.unit)
	w.closed(t+200, one.request)
}

func (w *wide) End() []byte {
	t := int64(w.k) * 100_000
	for len(w.open) > 0 {
		w.close(t)
	}
	if w.session > 0 {
		w.closed(t, w.session)
	}
	w.b = fmt.Appendf(w.b, `{"ev":"bye","t":%d}`+"\n", t+1000)
	return w.take()
}
