// Package load makes up traces of any length for benchmarks and for the soak: a busy harbour office whose every
// thousandth request leaks what it holds.
package load

import (
	"fmt"

	"keenlantern.example/record/event"
)

// EventsEach is how many lines one request takes; one that leaks takes one less.
const EventsEach = 12

// registrations and the singletons among them, every third.
const registrations = 60

// Office writes one stream. The same calls give the same lines.
type Office struct {
	b       []byte
	e       event.Event
	inst    event.InstID
	singles []event.InstID
	open    []event.ScopeID
	k       int
}

// NewOffice begins a stream with a hello, its registrations and singletons, and with so many scopes that stay open until
// the end and hold an instance each.
func NewOffice(stream string, open int) *Office {
	o := &Office{e: event.Event{Count: 1, Weight: 1}}
	o.b = fmt.Appendf(o.b, `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":%q,"start":"2026-03-02T05:40:00.000000000Z"}`+"\n", stream)
	for r := 1; r <= registrations; r++ {
		lifetime := []string{"singleton", "scoped", "transient"}[r%3]
		o.b = fmt.Appendf(o.b, `{"ev":"register","t":1,"reg":%d,"service":"Service%02d","lifetime":"%s","disposable":%t}`+"\n", r, r, lifetime, r%3 == 1)
	}
	for r := 3; r <= registrations; r += 3 {
		o.inst++
		o.singles = append(o.singles, o.inst)
		o.b = fmt.Appendf(o.b, `{"ev":"make","t":2,"inst":%d,"reg":%d,"scope":0,"ns":1000}`+"\n", o.inst, r)
	}
	for n := range open {
		id := event.ScopeID(1_000_000_000 + n)
		o.open = append(o.open, id)
		o.inst++
		o.b = fmt.Appendf(o.b, `{"ev":"open","t":3,"scope":%d,"kind":"session","name":"watch on the quay"}`+"\n", id)
		o.b = fmt.Appendf(o.b, `{"ev":"make","t":4,"inst":%d,"reg":2,"scope":%d,"ns":1000}`+"\n", o.inst, id)
	}
	return o
}

func (o *Office) say(kind event.Kind, t int64, fields ...event.Field) {
	o.e.Kind, o.e.T, o.e.Has = kind, t, event.Of(fields...)
	o.b = event.AppendLine(o.b, &o.e)
}

// Requests writes the next n requests and returns what has been written since the last call. It is good until the next.
func (o *Office) Requests(n int) []byte {
	for range n {
		o.request()
	}
	return o.take()
}

// End closes what is open, says bye, and returns what has been written since the last call.
func (o *Office) End() []byte {
	t := int64(o.k) * 100_000
	for _, id := range o.open {
		o.e.Scope = id
		o.say(event.Close, t, event.FScope)
	}
	o.b = fmt.Appendf(o.b, `{"ev":"bye","t":%d}`+"\n", t)
	return o.take()
}

func (o *Office) take() []byte {
	b := o.b
	o.b = b[len(b):]
	if cap(o.b) < 64<<10 {
		o.b = make([]byte, 0, 1<<20)
	}
	return b
}

func (o *Office) request() {
	k := o.k
	o.k++
	t, e := int64(k)*100_000, &o.e
	e.Scope, e.ScopeKind, e.Name, e.Entry = event.ScopeID(k+1), "request", fmt.Sprintf("GET /office/%02d", k*k%40), "handle"
	o.say(event.Open, t, event.FScope, event.FKind, event.FName)
	o.inst++
	ledger := o.inst
	e.Inst, e.Reg, e.NS, e.With = ledger, event.RegID(1+3*(k%20)), 2000, []event.With{{Inst: o.singles[k%20]}}
	o.say(event.Make, t+10_000, event.FInst, event.FReg, event.FScope, event.FNS, event.FWith)
	o.inst++
	e.Inst, e.Reg, e.NS, e.With = o.inst, event.RegID(2+3*(k%20)), 4000, []event.With{{Inst: ledger}, {Slot: 1, Inst: o.singles[(k+7)%20]}}
	o.say(event.Make, t+13_000, event.FInst, event.FReg, event.FScope, event.FNS, event.FWith)
	o.say(event.Give, t+14_000, event.FInst, event.FScope, event.FEntry)
	for u := range int64(6) {
		e.Inst, e.User, e.NS = ledger, o.inst, 500
		o.say(event.Use, t+20_000+1000*u, event.FInst, event.FScope, event.FBy, event.FNS)
	}
	if e.Inst = ledger; k%1000 != 0 {
		o.say(event.Dispose, t+50_000, event.FInst, event.FScope)
	}
	o.say(event.Close, t+60_000+int64(k%977)*100, event.FScope)
}
