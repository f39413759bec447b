package uberdig

import (
	"reflect"
	"sync"
	"time"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// builder is a constructor or a decorator.
type builder struct {
	f     reflect.Value
	at    string
	scope *Scope // that it was provided on, and in which what it needs is searched for
	home  *Scope // to which what it builds belongs
	asks  []*param
	gives []*param
	regs  []*registered
	runs  *runs
}

// runs guards what is found out when a constructor runs.
type runs struct{ sync.Mutex }

// first returns the first thing that b provides and that is shared.
func (b *builder) first() *param {
	for _, p := range b.gives {
		if !p.basic {
			return p
		}
	}
	if len(b.gives) > 0 {
		return b.gives[0]
	}
	return &param{of: b.f.Type()}
}

// register makes the registrations for what b provides. A decorator's are around those that answered before.
func (b *builder) register(answering func(asked) *registered) {
	sh := b.scope.shared
	for _, p := range b.gives {
		if p.basic {
			b.regs = append(b.regs, nil)
			continue
		}
		a := asked{p.of, p.key}
		g := b.registration(p)
		if answering != nil {
			if inner := answering(a); inner != nil {
				g.Wraps = inner.id
			}
		}
		k := regKey{g.Service, g.Key, b.home.kind, b.at, 0}
		sh.mu.Lock()
		if b.home.outer != nil { // a loop may provide several at one place
			k.n = b.home.times[k]
			b.home.times[regKey{g.Service, g.Key, b.home.kind, b.at, 0}]++
		}
		reg := sh.regs[k]
		sh.mu.Unlock()
		// Those of the root are each their own.
		if reg == nil || b.home.outer == nil {
			reg = &registered{sh.rec.Register(g), g}
		}
		sh.mu.Lock()
		sh.regs[k] = reg
		if len(sh.named) < maxTexts {
			sh.named[p.digName()] = reg.id
		}
		b.home.answers[a] = reg
		for _, also := range p.also {
			b.home.answers[asked{also, p.key}] = reg
		}
		sh.mu.Unlock()
		b.regs = append(b.regs, reg)
	}
}

// recorded returns a function of the same type that reports what b builds.
func (b *builder) recorded() any {
	return reflect.MakeFunc(b.f.Type(), func(args []reflect.Value) []reflect.Value {
		ended := false
		defer func() {
			if !ended { // it panics
				b.failed(nil)
			}
		}()
		began := time.Now()
		run := b.f.Call
		if b.f.Type().IsVariadic() {
			run = b.f.CallSlice
		}
		out := run(args)
		end := time.Now()
		ended = true
		for _, v := range out {
			if v.Type() == errorType && !v.IsNil() {
				b.failed(v.Interface().(error))
				return out
			}
		}
		b.made(args, out, began, end)
		return out
	}).Interface()
}

// failed records that b failed, once for each time.
func (b *builder) failed(err error) {
	sh := b.scope.shared
	p := b.first()
	if now := sh.call(); now != nil {
		now.failed = true
	}
	sh.rec.Fail(record.Failure{Service: p.service(sh), Key: p.key, Why: "error", Scope: b.where(), Err: err})
}

// where returns the scope in which the work runs that asks for what b builds.
func (b *builder) where() record.ScopeID {
	if now := b.scope.shared.call(); now != nil {
		return now.scope.at()
	}
	return b.home.at()
}

// made reports what b built: together, so that it is timed once, and each object once, whatever types it has.
func (b *builder) made(args, out []reflect.Value, began, end time.Time) {
	sh := b.scope.shared
	now := sh.call()
	var with []event.With
	b.scope.given(args, b.asks, func(v any, p *param) {
		w := event.With{Site: p.site, Service: p.service(sh), Key: p.key, HasKey: p.key != "", All: p.all, Absent: v == nil}
		if v == nil {
			with = append(with, w)
			return
		}
		inst := b.scope.instance(v, p)
		w.Inst, w.Unseen = inst, inst == 0
		with = append(with, w)
		if now == nil {
			return
		}
		// What it needs is built before: its construction began with that of what was built for it, and for no earlier one.
		if first, ok := now.began[inst]; ok && first.Before(began) {
			began = first
		}
		delete(now.began, inst)
	})
	type object struct {
		at uintptr
		of reflect.Type
	}
	known := map[object]int{}
	first := record.InstID(0)
	one := func(n int, p *param, reg *registered, v reflect.Value) {
		if none(v) {
			return
		}
		value := v.Interface()
		if at := reflect.ValueOf(value); at.Kind() == reflect.Pointer {
			o := object{at.Pointer(), at.Type()}
			if same, again := known[o]; again {
				b.same(n, same, sh.rec.Of(value))
				return
			}
			known[o] = n
		}
		m := record.Making{Reg: reg.id, Scope: b.where(), With: with, By: "factory", Impl: sh.names.Type(reflect.TypeOf(value))}
		m.Disposable = sh.closes(reflect.TypeOf(value))
		if m.When = end; first == 0 {
			m.Took = end.Sub(began)
		}
		if b.home.outer != nil && m.Scope != b.home.id {
			m.Owner = record.OwnedBy(b.home.id)
		}
		inst := sh.rec.Make(m)
		sh.rec.Know(value, inst)
		if first == 0 {
			first = inst
		}
		b.keep(p, inst)
	}
	for n, p := range b.gives {
		if p.basic || n >= len(b.regs) {
			continue
		}
		reg := b.regs[n]
		v := out[p.arg]
		if p.index != nil {
			v = v.FieldByIndex(p.index)
		}
		if !p.flatten {
			one(n, p, reg, v)
			continue
		}
		for k := range v.Len() { // each is a separate registration
			if k > 0 {
				reg = &registered{sh.rec.Register(b.regs[n].more), b.regs[n].more}
			}
			one(n, p, reg, v.Index(k))
		}
	}
	if now != nil && first != 0 {
		now.began[first] = began
	}
}

// keep notes which instance a scope answers with.
func (b *builder) keep(p *param, inst record.InstID) {
	sh := b.scope.shared
	sh.mu.Lock()
	defer sh.mu.Unlock()
	b.home.latest[asked{p.of, p.key}] = inst
	for _, also := range p.also {
		b.home.latest[asked{also, p.key}] = inst
	}
}

// same notes that two results are one object.
func (b *builder) same(n, first int, inst record.InstID) {
	b.keep(b.gives[n], inst)
	b.runs.Lock()
	defer b.runs.Unlock()
	if reg := b.regs[n]; reg.more.Alias == 0 && n != first {
		reg.more.Alias = b.regs[first].id
		b.scope.shared.rec.Again(reg.id, reg.more)
	}
}
