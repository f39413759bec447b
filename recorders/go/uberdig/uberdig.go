package uberdig

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/internal/adapt"
	"keenlantern.example/record/internal/goroutine"
)

// digger is what a dig.Container and a dig.Scope have in common.
type digger interface {
	Provide(constructor any, opts ...dig.ProvideOption) error
	Decorate(decorator any, opts ...dig.DecorateOption) error
	Invoke(function any, opts ...dig.InvokeOption) error
	Scope(name string, opts ...dig.ScopeOption) *dig.Scope
	String() string
}

// Container is a dig container that is recorded. Its own methods are those of its root scope.
type Container struct {
	*root
	container *dig.Container
}

// root gives the embedded scope another name than the method Scope.
type root = Scope

// Dig returns the container itself.
func (c *Container) Dig() *dig.Container { return c.container }

// shared is what the scopes of one container have in common.
type shared struct {
	rec       *record.Recorder
	container record.ContainerID
	names     adapt.Names
	told      bool // the application reports what it closes
	closes    func(reflect.Type) bool

	mu    sync.Mutex
	regs  map[regKey]*registered
	calls map[uintptr]*call       // by goroutine
	texts map[string]string       // types' names, by how dig writes them
	named map[string]record.RegID // registrations, by how dig names what they provide
	taken map[record.ScopeID]bool // scopes of Handler or Run that a scope of the container is
}

// registered is a registration as it was recorded.
type registered struct {
	id   record.RegID
	more record.Registration
}

// regKey identifies registrations: those that each scope makes again are one.
type regKey struct {
	service, key, kind, at string
	n                      int // of those made at one place
}

// call is an Invoke that is running.
type call struct {
	scope  *Scope
	outer  *call
	failed bool                        // told
	began  map[record.InstID]time.Time // the construction of what was built in it and has not been given yet
}

// Scope is a dig scope that is recorded.
type Scope struct {
	shared  *shared
	dig     digger
	outer   *Scope
	id      record.ScopeID
	own     bool // opened here
	closed  atomic.Bool
	kind    string
	answers map[asked]*registered
	latest  map[asked]record.InstID
	times   map[regKey]int
	layers  map[string]string // decorators' places, by how dig names what they decorate
}

type asked struct {
	of  reflect.Type
	key string
}

// Option sets how a container is recorded.
type Option func(*shared)

// ClosesTold records that the application reports everything that it closes to the recorder, so that the rest counts as leaked.
func ClosesTold() Option { return func(s *shared) { s.told = true } }

// Closes returns which types have to be closed, besides those with a method Close, Shutdown or Stop.
func Closes(also func(reflect.Type) bool) Option {
	return func(s *shared) { s.closes = func(t reflect.Type) bool { return adapt.Closes(t) || also(t) } }
}

// New returns an empty container that rec records, as dig.New does without.
func New(rec *record.Recorder, opts ...dig.Option) *Container { return Record(rec, dig.New(opts...)) }

// Record has rec record a container, from now on.
func Record(rec *record.Recorder, c *dig.Container, opts ...Option) *Container {
	s := &shared{
		rec: rec, closes: adapt.Closes, regs: map[regKey]*registered{}, calls: map[uintptr]*call{}, texts: map[string]string{}, named: map[string]record.RegID{}, taken: map[record.ScopeID]bool{},
	}
	for _, opt := range opts {
		opt(s)
	}
	rec.Follow()
	container, id := rec.Root(record.ContainerSetup{Name: "dig", Duplicates: "error"})
	s.container = container
	return &Container{root: s.scope(c, nil, id, ""), container: c}
}

func (sh *shared) scope(d digger, outer *Scope, id record.ScopeID, kind string) *Scope {
	s := &Scope{shared: sh, dig: d, outer: outer, id: id, kind: kind}
	if !s.left() {
		s.answers, s.latest, s.layers, s.times = map[asked]*registered{}, map[asked]record.InstID{}, map[string]string{}, map[regKey]int{}
	}
	return s
}

// Scope makes a child scope, as dig's does. It is the scope that record.Handler or Run opened on this goroutine, the first that
// is made there; otherwise one whose end is not seen unless Close is called.
func (s *Scope) Scope(name string, opts ...dig.ScopeOption) *Scope {
	id, here := s.shared.rec.Here()
	return s.open(s.dig.Scope(name, opts...), id, here, record.Scope{Kind: name})
}

// Open makes a child scope for work of a kind and name, which is what ctx carries where record.Handler or Run opened a scope for
// it that no other scope of the container is yet. Close ends it.
func (s *Scope) Open(ctx context.Context, kind, name string, opts ...dig.ScopeOption) (context.Context, *Scope) {
	id := record.ScopeOf(ctx)
	child := s.open(s.dig.Scope(kind, opts...), id, id != 0, record.Scope{Kind: kind, Name: name})
	if child.id != id {
		ctx = s.shared.rec.In(ctx, child.id)
	}
	return ctx, child
}

func (s *Scope) open(d *dig.Scope, id record.ScopeID, there bool, g record.Scope) *Scope {
	s.shared.mu.Lock()
	// The child of a scope lies in that one, whatever work makes it.
	own := !there || s.shared.taken[id] || s.outer != nil
	if !own {
		s.shared.taken[id] = true
	}
	s.shared.mu.Unlock()
	if own {
		work := id
		g.In = s.id
		if there && s.outer == nil {
			g.In = id
		}
		if id = s.shared.rec.Open(g); s.shared.rec == nil {
			id = record.Unrecorded
		}
		if there && s.outer != nil && work != s.id {
			s.shared.rec.Join(work, id) // the work belongs to it, and goes on in it
		}
	}
	child := s.shared.scope(d, s, id, g.Kind)
	child.own = own
	return child
}

// Close records that the scope has ended.
func (s *Scope) Close() {
	s.closed.Store(true)
	if s.outer == nil {
		s.shared.rec.CloseScope(s.id)
		return
	}
	s.shared.mu.Lock()
	delete(s.shared.taken, s.id)
	s.shared.mu.Unlock()
	if s.own {
		s.shared.rec.CloseScope(s.id)
	}
}

// ID returns the scope as the recorder knows it.
func (s *Scope) ID() record.ScopeID { return s.id }

// String is dig's.
func (s *Scope) String() string { return s.dig.String() }

// left reports whether nothing of a scope is recorded: it was left out when it was opened.
func (s *Scope) left() bool { return s.outer != nil && s.id >= record.Unrecorded }

// Provide registers a constructor, as dig's Provide does: once for the container on its root and where it is exported, for each
// scope on others.
func (s *Scope) Provide(constructor any, opts ...dig.ProvideOption) error {
	f := reflect.ValueOf(constructor)
	if f.Kind() != reflect.Func || s.left() || s.shared.rec == nil {
		return s.dig.Provide(constructor, opts...) // which returns the error for a value that is not a function
	}
	said := optionsOf(opts)
	home := s
	if said.exported {
		for home.outer != nil {
			home = home.outer
		}
	}
	b := &builder{
		f: f, at: adapt.Caller("keenlantern.example/record/uberdig"), scope: s, home: home,
		asks: params(f.Type()), gives: results(f.Type(), said), runs: &runs{},
	}
	if err := s.dig.Provide(b.recorded(), append([]dig.ProvideOption{dig.LocationForPC(f.Pointer())}, opts...)...); err != nil {
		if dig.IsCycleDetected(err) {
			s.shared.rec.Fail(record.Failure{Service: b.first().service(s.shared), Why: "cycle", Scope: s.id, Path: s.shared.path(err)})
		}
		return err
	}
	b.register(nil)
	return nil
}

// Decorate puts a decorator around what it takes and returns, as dig's Decorate does.
func (s *Scope) Decorate(decorator any, opts ...dig.DecorateOption) error {
	f := reflect.ValueOf(decorator)
	if f.Kind() != reflect.Func || s.left() || s.shared.rec == nil {
		return s.dig.Decorate(decorator, opts...)
	}
	b := &builder{
		f: f, at: adapt.Caller("keenlantern.example/record/uberdig"), scope: s, home: s, asks: params(f.Type()), gives: results(f.Type(), said{}), runs: &runs{},
	}
	if err := s.dig.Decorate(b.recorded(), opts...); err != nil {
		return s.blame(err, f)
	}
	b.register(s.answering)
	for _, p := range b.gives {
		name := p.digName()
		if _, alike := s.layers[name]; alike {
			s.layers[name] = "" // of two packages of one name: which is meant is unknown
			continue
		}
		s.layers[name] = locationOf(f.Pointer())
	}
	return nil
}

// answering returns the registration that answers in s for a type and key, nil if none is known.
func (s *Scope) answering(a asked) *registered {
	s.shared.mu.Lock()
	defer s.shared.mu.Unlock()
	for at := s; at != nil; at = at.outer {
		if reg := at.answers[a]; reg != nil {
			return reg
		}
	}
	return nil
}

// Invoke calls function with what it asks for, as dig's Invoke does.
func (s *Scope) Invoke(function any, opts ...dig.InvokeOption) error {
	return s.InvokeFor("", function, opts...)
}

// InvokeFor is Invoke for an entry point: a handler, a job, a message.
func (s *Scope) InvokeFor(entry string, function any, opts ...dig.InvokeOption) error {
	f := reflect.ValueOf(function)
	if f.Kind() != reflect.Func || s.left() || !s.shared.rec.On() {
		return s.dig.Invoke(function, opts...)
	}
	leave := s.shared.enter(s)
	defer leave()
	now := s.shared.call()
	asks := params(f.Type())
	if s.closed.Load() {
		// Dig goes on to answer, with what it had or again.
		for _, p := range asks {
			if !p.basic {
				s.shared.rec.Fail(record.Failure{Service: p.service(s.shared), Key: p.key, Why: "closed", Scope: s.id, Entry: entry})
			}
		}
	}
	reached := false
	counted := reflect.MakeFunc(f.Type(), func(args []reflect.Value) []reflect.Value {
		reached = true
		s.given(args, asks, func(v any, p *param) {
			if v == nil {
				return
			}
			s.shared.rec.Give(record.Giving{
				Inst: s.instance(v, p), Scope: s.at(), Entry: entry, Service: p.service(s.shared), Key: p.key, How: "method", Site: p.site, All: p.all,
			})
		})
		if f.Type().IsVariadic() {
			return f.CallSlice(args)
		}
		return f.Call(args)
	})
	err := s.dig.Invoke(counted.Interface(), opts...)
	if err == nil || reached && !errors.As(err, &dig.PanicError{}) {
		return err // the function's own
	}
	if !reached && !now.failed {
		s.failed(entry, err)
	}
	return s.blame(err, f)
}

// at returns the scope in which s's work runs: for the root, the scope of the goroutine if there is one.
func (s *Scope) at() record.ScopeID {
	if s.outer == nil {
		if here, ok := s.shared.rec.Here(); ok {
			return here
		}
	}
	return s.id
}

// enter notes that the calling goroutine invokes something in a scope.
func (sh *shared) enter(s *Scope) (leave func()) {
	g := goroutine.ID()
	sh.mu.Lock()
	defer sh.mu.Unlock()
	before := sh.calls[g]
	sh.calls[g] = &call{scope: s, outer: before, began: map[record.InstID]time.Time{}}
	return func() {
		sh.mu.Lock()
		defer sh.mu.Unlock()
		if before == nil {
			delete(sh.calls, g)
		} else {
			sh.calls[g] = before
		}
	}
}

// call returns what the calling goroutine invokes, nil for nothing.
func (sh *shared) call() *call {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return sh.calls[goroutine.ID()]
}

// instance returns which instance v is: by its address, or where it has none of its own, as the latest that was built for what
// was asked for.
func (s *Scope) instance(v any, p *param) record.InstID {
	if inst := s.shared.rec.Of(v); inst != 0 || p.all {
		return inst
	}
	s.shared.mu.Lock()
	defer s.shared.mu.Unlock()
	for at := s; at != nil; at = at.outer {
		if inst := at.latest[asked{p.of, p.key}]; inst != 0 {
			return inst
		}
	}
	return 0
}

// given calls f for each thing that a call was given, but for basic values: nil for what an optional parameter was not given, and for
// an empty group.
func (s *Scope) given(args []reflect.Value, asks []*param, f func(v any, p *param)) {
	for _, p := range asks {
		if p.basic {
			continue
		}
		v := args[p.arg]
		if p.variadic && v.Len() == 0 {
			f(nil, p)
			continue
		}
		if p.index != nil {
			v = v.FieldByIndex(p.index)
		}
		if !p.all {
			if none(v) {
				f(nil, p)
			} else {
				f(v.Interface(), p)
			}
			continue
		}
		if v.Len() == 0 {
			f(nil, p)
		}
		for k := range v.Len() {
			f(v.Index(k).Interface(), p)
		}
	}
}

// none reports whether v is a nil.
func none(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Chan, reflect.Func, reflect.Interface, reflect.Map, reflect.Pointer, reflect.Slice:
		return v.IsNil()
	}
	return false
}

// failed records that something is missing below what was asked for. What a constructor failed with was recorded when it ran. Only names
// of types are taken from the error, which may hold anything.
func (s *Scope) failed(entry string, err error) {
	f := record.Failure{Why: "error", Scope: s.at(), Path: s.shared.path(err), For: s.shared.asker(err)}
	if len(f.Path) == 0 { // the function itself asked for it
		f.Entry = entry
	}
	if dig.IsCycleDetected(err) {
		f.Why = "cycle"
		if len(f.Path) > 0 {
			f.Service = f.Path[0]
		}
		s.shared.rec.Fail(f)
		return
	}
	m := missing.FindStringSubmatch(err.Error())
	if m == nil {
		if len(f.Path) > 0 {
			f.Service = f.Path[len(f.Path)-1]
		}
		s.shared.rec.Fail(f)
		return
	}
	f.Why = "missing"
	path := f.Path
	for _, text := range strings.Split(m[1], ";") {
		of, key := digKey(strings.TrimSpace(text))
		f.Service, f.Key = s.shared.typeName(of), key
		f.Path = append(path[:len(path):len(path)], f.Service)
		s.shared.rec.Fail(f)
	}
}

// seen is what can be seen of an instance that application code closes without saying so.
var seen = []string{"with", "shared", "use", "dispose", "closes", "fail"}

// registration makes one of a result.
func (b *builder) registration(p *param) record.Registration {
	sh := b.scope.shared
	g := record.Registration{
		Service: p.service(sh), Key: p.key, Lifetime: "singleton", Container: sh.container, Needs: b.needs(), At: b.at, Disposer: "code",
		Disposable: sh.closes(p.result), Local: b.home.outer != nil, Signature: b.signature(),
	}
	if g.Disposable {
		g.Mechanism = "interface"
	}
	if b.home.outer != nil {
		g.Lifetime = "scoped"
	}
	for _, as := range p.also {
		g.Also = append(g.Also, event.Also{Service: sh.names.Type(as), Key: p.key, HasKey: p.key != ""})
	}
	if !sh.told {
		g.Sees = seen
	}
	return g
}

// signature returns the constructor as people write it: "NewBerthPlanner(TideSource, BerthLedger)".
func (b *builder) signature() string {
	f := runtime.FuncForPC(b.f.Pointer())
	if f == nil {
		return ""
	}
	name := f.Name()
	takes := make([]string, len(b.asks))
	for n, p := range b.asks {
		takes[n] = p.service(b.scope.shared)
	}
	return name[strings.LastIndexAny(name, "./")+1:] + "(" + strings.Join(takes, ", ") + ")"
}

func (b *builder) needs() (needs []event.Need) {
	for _, p := range b.asks {
		if !p.basic {
			needs = append(needs, event.Need{
				Site: p.site, Service: p.service(b.scope.shared), Key: p.key, HasKey: p.key != "", All: p.all, Optional: p.optional,
			})
		}
	}
	return needs
}

func (p *param) service(sh *shared) string {
	name := sh.names.Type(p.of)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if len(sh.texts) < maxTexts {
		sh.texts[p.of.String()] = name
	}
	return name
}

// maxTexts bounds how many types' texts are kept.
const maxTexts = 100_000

// typeName returns a type's name by how dig writes it.
func (sh *shared) typeName(text string) string {
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if name := sh.texts[text]; name != "" {
		return name
	}
	return strings.TrimLeft(text, "*")
}

// digName is how dig names what p is in an error.
func (p *param) digName() string {
	switch {
	case p.key == "":
		return p.of.String()
	case p.group:
		return fmt.Sprintf("%v[group=%q]", p.of, p.key)
	}
	return fmt.Sprintf("%v[name=%q]", p.of, p.key)
}
