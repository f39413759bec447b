package samberdo

import (
	"errors"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/internal/goroutine"
)

// stacks are what goroutines are asking the container for.
type stacks struct {
	mu sync.Mutex
	by map[uintptr]*stack
	_  [40]byte // keeps neighbours out of its cache line
}

// stack is what one goroutine is asking for, what is asked for last at the end. Only that goroutine touches it.
type stack struct {
	frames []*frame
	where  record.ScopeID // in which the work runs
	known  bool           // where is known
	ask    *ask           // more of what is asked for next
	quiet  bool           // what is asked for is not the application's asking
}

// frame is one invocation that is running.
type frame struct {
	scope  *do.Scope
	name   string
	began  time.Time
	waited time.Duration // for what other goroutines built
	with   []event.With
	target string // what was handed to it last
	failed error  // what was recorded already
	ask    *ask
	value  any // what was built, if a provider reports it
	where  record.ScopeID
	known  bool     // where is known
	of     *service // that is not built yet
}

// stack returns what the calling goroutine is asking for, and makes room for it if asked to. It may be nil otherwise.
func (b *box) stack(make bool) *stack {
	g := goroutine.ID()
	all := &b.stacks[g>>6%uintptr(len(b.stacks))]
	all.mu.Lock()
	defer all.mu.Unlock()
	st := all.by[g]
	if st == nil && make {
		if all.by == nil {
			all.by = map[uintptr]*stack{}
		}
		st = &stack{}
		all.by[g] = st
	}
	return st
}

// leave releases a goroutine's stack when nothing is asked for any more.
func (b *box) leave(st *stack) {
	if len(st.frames) > 0 || st.ask != nil {
		return
	}
	g := goroutine.ID()
	all := &b.stacks[g>>6%uintptr(len(b.stacks))]
	all.mu.Lock()
	defer all.mu.Unlock()
	delete(all.by, g)
}

func (h *hooks) registered(s *do.Scope, name string) {
	b := h.box(s.RootScope())
	if s.ID() != b.id && len(s.Ancestors()) == 0 {
		// A clone gets its root's scope while it is made, after the id that it had.
		b.id = s.ID()
	}
	b.registered(s, s, name)
}

// invoking notes that something is asked for. While nothing is recorded, only what the root has not built yet is followed,
// and what that is given: it is written when recording begins.
func (h *hooks) invoking(s *do.Scope, name string) {
	b := h.box(s.RootScope())
	if !b.rec.On() && b.running.Load() == 0 && (s.ID() != b.id || b.built(name)) || b.leftOut(s) && b.running.Load() == 0 {
		return
	}
	st := b.stack(b.rec.On() || s.ID() == b.id)
	if st == nil || st.quiet || len(st.frames) == 0 && !b.rec.On() && b.built(name) {
		return
	}
	f := &frame{scope: s, name: name, began: time.Now(), ask: st.ask}
	st.ask = nil
	if len(st.frames) == 0 {
		if st.where, st.known = b.rec.Here(); f.ask != nil && f.ask.scoped {
			st.where, st.known = f.ask.scope, true
		}
	}
	f.where, f.known = st.where, st.known
	st.frames = append(st.frames, f)
	b.running.Add(1)
	b.wants(f)
}

// wants notes a request for something that is not built yet.
func (b *box) wants(f *frame) {
	b.mu.RLock()
	_, sv := b.opened(f.scope, f.name)
	idle := sv == nil || sv.made || sv.how != do.ServiceTypeLazy
	b.mu.RUnlock()
	if idle {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !sv.made && len(sv.asking) < maxAsking {
		sv.asking, f.of = append(sv.asking, f), sv
	}
}

// maxAsking bounds how many requesters of one thing are kept.
const maxAsking = 1000

// got notes that a request has ended.
func (b *box) got(f *frame) {
	if f.of == nil {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if n := slices.Index(f.of.asking, f); n >= 0 {
		f.of.asking = slices.Delete(f.of.asking, n, n+1)
	}
	if len(f.of.asking) == 0 {
		f.of.by = nil
	}
}

// late notes, of who asked for what was not built yet and finds it recorded, that it has waited unless it was the builder. The caller
// holds mu.
func (f *frame) late(took time.Duration) {
	if f.of != nil && f.of.by != f {
		f.waited = took
	}
}

// builder returns who of those that ask has built a service: who was given something for it, else the first requester. A caller of
// has waited for it, or is it. The caller holds mu.
func (sv *service) builder(f *frame) *frame {
	if len(f.with) > 0 {
		return f
	}
	first := f
	for _, other := range sv.asking {
		if len(other.with) > 0 {
			return other
		}
		if other.began.Before(first.began) {
			first = other
		}
	}
	return first
}

// built reports whether the root keeps nothing of a service that is still to be built.
func (b *box) built(name string) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	sv := b.root.services[name]
	return sv != nil && (sv.made || sv.how == do.ServiceTypeTransient || sv.how == do.ServiceTypeAlias)
}

// leftOut reports whether a scope is not recorded.
func (b *box) leftOut(s do.Injector) bool {
	if s.ID() == b.id {
		return false
	}
	b.mu.RLock()
	defer b.mu.RUnlock()
	known := b.scopes[s.ID()]
	return known != nil && known.id >= record.Unrecorded
}

// invoked notes the result.
func (h *hooks) invoked(s *do.Scope, name string, err error) {
	b := h.box(s.RootScope())
	if b.running.Load() == 0 {
		return
	}
	st := b.stack(false)
	if st == nil || st.quiet || len(st.frames) == 0 {
		return
	}
	f := st.frames[len(st.frames)-1]
	if f.scope != s || f.name != name {
		return // recording was switched on meanwhile
	}
	st.frames = st.frames[:len(st.frames)-1]
	defer b.leave(st)
	defer b.got(f)
	b.running.Add(-1)
	var outer *frame
	if n := len(st.frames); n > 0 {
		outer = st.frames[n-1]
	}
	if err != nil {
		b.failed(st, f, outer, err)
		return
	}
	inst := b.instance(st, f, outer)
	p := b.partsOf(name)
	w := event.With{Inst: inst, Service: p.service, Key: p.key, HasKey: p.keyed}
	if f.ask != nil {
		w.Site = f.ask.site
	}
	if outer != nil {
		w.Unseen = inst == 0
		outer.with, outer.target = append(outer.with, w), name
		outer.waited += f.waited
		return
	}
	g := record.Giving{Inst: inst, Scope: st.where, NoScope: !st.known, Service: w.Service, Key: w.Key, How: "locator", Site: w.Site}
	if f.ask != nil {
		g.Entry, g.To = f.ask.entry, b.rec.Of(f.ask.to)
	}
	b.rec.Give(g)
}

// instance returns what the container handed out, which is recorded if it has just been built; 0 if that was not seen.
func (b *box) instance(st *stack, f, outer *frame) record.InstID {
	took := time.Since(f.began)
	sc, sv := b.known(f, outer)
	if sv == nil {
		return 0
	}
	switch sv.how {
	case do.ServiceTypeAlias:
		return b.alias(sv, f)
	case do.ServiceTypeTransient:
		return b.make(st, sc, sv, f, took)
	}
	b.mu.RLock()
	inst, made := sv.inst, sv.made
	if made {
		f.late(took)
	}
	b.mu.RUnlock()
	if made {
		return inst
	}
	if f.value == nil {
		st.quiet = true
		f.value, _ = do.InvokeNamed[any](f.scope, f.name) // it is built; where it has been shut down already, nothing is known of it
		st.quiet = false
	}
	return b.make(st, sc, sv, f, took)
}

// known returns the scope and service of an invocation, nil where they are not known.
func (b *box) known(f, outer *frame) (*scope, *service) {
	b.mu.Lock()
	defer b.mu.Unlock()
	sc := b.root
	if f.scope.ID() != b.id {
		if sc = b.scopes[f.scope.ID()]; sc == nil || sc.id >= record.Unrecorded {
			if outer == nil {
				return nil, nil
			}
			// Something that outlives it may keep it, so it has to be known although its scope is not recorded.
			if sc = b.kept[f.scope.ID()]; sc == nil {
				sc = newScope(record.Unrecorded, kindOf(f.scope.Name()), nil)
				sc.kept, sc.services = &record.KeptScope{Kind: sc.kind}, map[string]*service{}
			}
		}
	}
	sv := sc.services[f.name]
	if sv == nil {
		if known := b.regs[regKey{f.name, sc.kind}]; known != nil {
			sv = &service{registered: known}
		} else if _, here := do.ExplainNamedService(f.scope, f.name); here {
			// A clone has what the container had, which was not registered on it.
			sv = &service{registered: b.registration(sc, f.scope, f.name, nil, false)}
		} else {
			return sc, nil // asked for by a type that it fits, so that its name is unknown
		}
		sc.services[f.name] = sv
		sc.left++
	}
	return sc, sv
}

// alias returns what an alias stands for, and records it when first seen.
func (b *box) alias(sv *service, f *frame) record.InstID {
	if len(f.with) != 1 {
		return 0
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if sv.more.Alias == 0 {
		if sc := b.scopes[f.scope.ID()]; sc != nil {
			sv.more.Alias = b.answering(sc, f.target)
		} else {
			sv.more.Alias = b.answering(b.root, f.target)
		}
		if sv.more.Alias != 0 {
			b.rec.Again(sv.id, sv.more)
		}
	}
	return f.with[0].Inst
}

// make records that an instance was built.
func (b *box) make(st *stack, sc *scope, sv *service, f *frame, took time.Duration) record.InstID {
	b.mu.Lock()
	defer b.mu.Unlock()
	if sv.how != do.ServiceTypeTransient && sv.made {
		f.late(took) // another goroutine has recorded it meanwhile
		return sv.inst
	}
	by := f
	if sv.how == do.ServiceTypeLazy {
		by = sv.builder(f)
		if sv.by = by; by != f {
			f.waited, took = took, time.Since(by.began)
		}
	}
	m := record.Making{
		Reg: sv.id, Scope: sc.id, With: by.with, Took: max(0, took-by.waited), By: "factory", Disposable: disposable(f.value),
	}
	if f.value != nil {
		m.Impl = b.names.Type(reflect.TypeOf(f.value))
	}
	if m.When = by.began.Add(took); sv.how == do.ServiceTypeEager {
		m.By, m.Took = "external", 0
	}
	if by.known {
		m.Scope = by.where
	}
	if m.Scope != sc.id && sc != b.root || sv.how == do.ServiceTypeTransient {
		m.Owner = record.OwnedBy(sc.id)
	}
	var inst record.InstID
	if sc.kept != nil && slices.ContainsFunc(st.frames, func(f *frame) bool { return f.scope.ID() == b.id }) {
		m.Owner = record.Owner{}
		inst = b.rec.Keep(m, sc.kept)
		if len(b.kept) < maxKept {
			b.kept[f.scope.ID()] = sc
		}
	} else {
		inst = b.rec.Make(m)
	}
	if f.value != nil {
		b.rec.Know(f.value, inst)
	}
	if sv.how != do.ServiceTypeTransient {
		sv.made, sv.inst, sv.dispose = true, inst, m.Disposable
	}
	return inst
}

// failed records what could not be built: once, for the innermost.
func (b *box) failed(st *stack, f, outer *frame, err error) {
	told := f.failed != nil && (errors.Is(err, f.failed) || strings.Contains(err.Error(), f.failed.Error()))
	if outer != nil {
		outer.failed = err
		outer.waited += f.waited
	}
	if told {
		return
	}
	p := b.partsOf(f.name)
	fail := record.Failure{Service: p.service, Key: p.key, Why: "error", Scope: st.where, Err: err}
	if f.ask != nil {
		fail.Entry = f.ask.entry
	}
	for _, around := range st.frames {
		fail.Path = append(fail.Path, b.partsOf(around.name).service)
	}
	fail.Path = append(fail.Path, fail.Service)
	fail = b.reason(fail, err)
	asker := outer
	if fail.Why == "missing" && fail.Service != p.service {
		asker = f // its provider asked for the missing service
	}
	if asker != nil {
		b.mu.RLock()
		if _, sv := b.opened(asker.scope, asker.name); sv != nil {
			fail.For = sv.id
		}
		b.mu.RUnlock()
	}
	b.rec.Fail(fail)
}

// maxPath bounds the recorded path to a failure.
const maxPath = 64

// reason returns why something failed. The container's own words name services only; an application's error may hold anything,
// so that nothing else of it is recorded.
func (b *box) reason(fail record.Failure, err error) record.Failure {
	missing := errors.Is(err, do.ErrServiceNotFound) || errors.Is(err, do.ErrServiceNotMatch)
	cycle := errors.Is(err, do.ErrCircularDependency)
	if !missing && !cycle {
		return fail
	}
	// The names stand between backquotes: first what is missing, or the whole circle.
	sentinel := do.ErrServiceNotFound
	switch {
	case cycle:
		sentinel = do.ErrCircularDependency
	case errors.Is(err, do.ErrServiceNotMatch):
		sentinel = do.ErrServiceNotMatch
	}
	_, text, _ := strings.Cut(err.Error(), sentinel.Error())
	var names []string
	var first parts
	for n, part := range strings.Split(text, "`") {
		if n%2 == 1 && len(names) < maxPath {
			p := b.partsOf(part)
			if len(names) == 0 {
				first = p
			}
			names = append(names, p.service)
		}
	}
	if cycle {
		fail.Why, fail.Message, fail.Path = "cycle", sentinel.Error(), names
		return fail
	}
	fail.Why, fail.Message = "missing", sentinel.Error()
	if len(names) > 0 {
		fail.Service, fail.Key = first.service, first.key
		fail.Path = append(fail.Path, first.service)
	}
	fail.Path = fail.Path[max(0, len(fail.Path)-maxPath):]
	return fail
}

// disposing and disposed are the container's hooks around the shutdown of one service.
func (h *hooks) disposing(s *do.Scope, name string) {
	b := h.box(s.RootScope())
	b.mu.Lock()
	sc, sv := b.opened(s, name)
	if sv == nil || !sv.made || !sv.dispose {
		b.mu.Unlock()
		return
	}
	sv.began = time.Now()
	inst, scope := sv.inst, sc.id
	b.mu.Unlock()
	b.rec.Dispose(inst, scope, "container", record.Begun, 0, nil)
}

func (h *hooks) disposed(s *do.Scope, name string, err error) {
	b := h.box(s.RootScope())
	b.mu.Lock()
	defer b.mu.Unlock()
	sc, sv := b.opened(s, name)
	if sc == nil || sv == nil && sc.services != nil {
		return
	}
	delete(sc.services, name)
	if sv != nil && sv.made && sv.dispose {
		b.rec.Dispose(sv.inst, sc.id, "container", record.Done, time.Since(sv.began), err)
	}
	if sc.left--; sc.left > 0 {
		return
	}
	if sc.kept == nil {
		b.closed(s.ID(), sc)
		return
	}
	delete(b.kept, s.ID())
	b.rec.CloseKept(sc.kept)
}

// maxKept bounds the scopes that are kept although they are not recorded.
const maxKept = 10_000

// opened returns an open scope and a service on it, nil where they are not known. The caller holds mu.
func (b *box) opened(s *do.Scope, name string) (*scope, *service) {
	sc := b.root
	if s.ID() != b.id {
		if sc = b.scopes[s.ID()]; sc == nil {
			sc = b.kept[s.ID()]
		}
		if sc == nil {
			return nil, nil
		}
	}
	return sc, sc.services[name]
}
