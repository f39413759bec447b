// Package wired is for applications that are wired by hand, in a plain main: a few generic helpers that provide, get,
// decorate and dispose, and report to a record.Recorder. It is a container as small as one can be; users of a real
// one uses an adapter for that.
//
//	w := wired.New(rec)
//	defer w.Close()
//	clock := wired.Provide(w, wired.Singleton, func(*wired.Building) (*HarbourClock, error) { return &HarbourClock{}, nil })
//	ledger := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*BerthLedger, error) {
//		c, err := clock.Get(b)
//		...
//	})
//	scope := w.Open(record.Scope{Kind: "request", Name: "GET /berths"})
//	defer scope.Close()
//	l, err := ledger.Get(scope.Entry("GET /berths"))
//
// It sees who is given what while being built, what an entry point asks for, and disposal by scope. It does not see
// calls; record.Call notes those. A nil Recorder is fine: the wiring then works and nothing is recorded.
package wired

import (
	"context"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/internal/adapt"
)

// Lifetime is how long what was built is kept.
type Lifetime string

// The lifetimes.
const (
	Singleton Lifetime = "singleton" // until the Wiring is closed
	Scoped    Lifetime = "scoped"    // until the Scope that asked is closed
	Transient Lifetime = "transient" // built for each request, and disposed with the Scope that asked
)

// ErrClosed is returned when something was asked for from a scope that has been closed, ErrCycle that something needs itself.
var (
	ErrClosed = errors.New("the scope is closed")
	ErrCycle  = errors.New("it needs itself")
)

// Wiring is what is provided. Its methods, and those of what it makes, may be called by several goroutines at once;
// what is registered is registered before anything is asked for.
type Wiring struct {
	rec       *record.Recorder
	container record.ContainerID
	root      *Scope
	names     adapt.Names

	waits sync.Mutex // guards who waits for whom
}

// New returns an empty Wiring that rec records.
func New(rec *record.Recorder) *Wiring {
	w := &Wiring{rec: rec}
	container, id := rec.Root(record.ContainerSetup{Name: "wiring"})
	w.container, w.root = container, &Scope{wiring: w, id: id, built: map[any]*entry{}}
	return w
}

// Close disposes what lives as long as w, the latest first. The error joins those of the disposals.
func (w *Wiring) Close() error { return w.root.Close() }

// Open opens a scope of work.
func (w *Wiring) Open(s record.Scope) *Scope { return w.open(w.rec.Open(s), true) }

func (w *Wiring) open(id record.ScopeID, own bool) *Scope {
	return &Scope{wiring: w, id: id, own: own, built: map[any]*entry{}}
}

type scopeKey struct{ of *Wiring }

// Within opens a scope for the work that ctx carries: in the scope that record.Handler or Run opened for it, or, where there is
// none or it has one already, in a new one, which then lies inside.
func (w *Wiring) Within(ctx context.Context, s record.Scope) (context.Context, *Scope) {
	id, own := record.ScopeOf(ctx), false
	if id == 0 || ctx.Value(scopeKey{w}) != nil {
		own = true
		if s.In == 0 {
			s.In = id
		}
		id = w.rec.Open(s)
		ctx = w.rec.In(ctx, id)
	}
	scope := w.open(id, own)
	return context.WithValue(ctx, scopeKey{w}, scope), scope
}

// Scope is a stretch of work with its own instances.
type Scope struct {
	wiring *Wiring
	id     record.ScopeID
	own    bool // opened here

	mu     sync.Mutex
	built  map[any]*entry // by service
	order  []*entry       // to be disposed
	closed bool
}

// entry is an instance that a scope keeps.
type entry struct {
	ready   chan struct{} // closed when it is built, or could not be
	by      *Building     // who builds it; guarded by Wiring.waits
	value   any
	inst    record.InstID
	dispose func() error
	failed  bool
}

// ID returns the scope as the recorder knows it.
func (s *Scope) ID() record.ScopeID { return s.id }

// Close disposes what the scope built, the latest first, and ends it. A second Close does nothing.
func (s *Scope) Close() error {
	s.mu.Lock()
	order := s.order
	again := s.closed
	s.order, s.closed = nil, true
	s.mu.Unlock()
	if again {
		return nil
	}
	var errs []error
	for n := len(order) - 1; n >= 0; n-- {
		errs = append(errs, s.end(order[n]))
	}
	if s.own || s == s.wiring.root {
		s.wiring.rec.CloseScope(s.id)
	}
	return errors.Join(errs...)
}

// end disposes one instance.
func (s *Scope) end(e *entry) error {
	rec, began := s.wiring.rec, time.Now()
	rec.Dispose(e.inst, s.id, "container", record.Begun, 0, nil)
	err := e.dispose()
	rec.Dispose(e.inst, s.id, "container", record.Done, time.Since(began), err)
	return err
}

// Asker is a requester: a Scope, an entry point in one, or something that is being built.
type Asker interface{ asking() asking }

type asking struct {
	scope    *Scope
	entry    string
	building *Building
}

func (s *Scope) asking() asking { return asking{scope: s} }

// Entry names the handler, job or message that asks.
func (s *Scope) Entry(name string) Asker { return entryPoint{s, name} }

type entryPoint struct {
	scope *Scope
	name  string
}

func (e entryPoint) asking() asking { return asking{scope: e.scope, entry: e.name} }

// Building is given to what builds an instance: what it asks for is kept by what it builds.
type Building struct {
	scope *Scope
	outer *Building
	reg   record.RegID
	name  string // of what is built
	of    any    // the service

	mu     sync.Mutex
	with   []event.With
	waited time.Duration // for what others built

	waiting []*entry // guarded by Wiring.waits
}

func (b *Building) asking() asking { return asking{scope: b.scope, building: b} }

// registration returns the registration that is being built, 0 if b is nil.
func (b *Building) registration() record.RegID {
	if b == nil {
		return 0
	}
	return b.reg
}

// path lists what is being built, the outermost first.
func (b *Building) path() (list []string) {
	for ; b != nil; b = b.outer {
		list = append(list, b.name)
	}
	slices.Reverse(list)
	return list
}

// Option says more of what is provided.
type Option func(*options)

type options struct {
	key     string
	keyOf   any
	dispose func(any) (error, bool)
	takes   reflect.Type // what dispose takes
}

// Key provides one of several of the same type.
func Key(key string) Option { return func(o *options) { o.key = key } }

// KeyOf is Key for a key of any type, which the trace writes with its type; see record.Recorder.KeyText.
func KeyOf(key any) Option { return func(o *options) { o.keyOf = key } }

// DisposeWith lets an instance go with f, where it has no Close of its own. T is what is provided, or what that is made of: what
// is built and is no T cannot be disposed with f, so that building it fails.
func DisposeWith[T any](f func(T) error) Option {
	return func(o *options) {
		o.takes = reflect.TypeFor[T]()
		o.dispose = func(v any) (error, bool) {
			of, ok := v.(T)
			if !ok {
				return nil, false
			}
			return f(of), true
		}
	}
}

// Service is something that can be asked for.
type Service[T any] struct {
	wiring   *Wiring
	name     string
	options  options
	lifetime Lifetime
	reg      record.RegID
	build    func(*Building) (T, error)
	layers   []layer[T]
}

type layer[T any] struct {
	reg  record.RegID
	wrap func(*Building, T) (T, error)
}

// Provide registers what build makes.
func Provide[T any](w *Wiring, lifetime Lifetime, build func(*Building) (T, error), opts ...Option) *Service[T] {
	var o options
	for _, opt := range opts {
		opt(&o)
	}
	if o.keyOf != nil {
		o.key = w.rec.KeyText(o.keyOf)
	}
	s := &Service[T]{wiring: w, name: w.names.Type(reflect.TypeFor[T]()), options: o, lifetime: lifetime, build: build}
	s.reg = w.rec.Register(record.Registration{
		Service: s.name, Key: o.key, Lifetime: string(lifetime), Container: w.container, At: caller(),
	})
	return s
}

// Decorate puts a layer around what s provides: requests are answered with what wrap returns. The latest layer is the outermost.
func Decorate[T any](s *Service[T], wrap func(*Building, T) (T, error)) {
	inner := s.reg
	if n := len(s.layers); n > 0 {
		inner = s.layers[n-1].reg
	}
	reg := s.wiring.rec.Register(record.Registration{
		Service: s.name, Key: s.options.key, Lifetime: string(s.lifetime), Container: s.wiring.container, Wraps: inner, At: caller(),
	})
	s.layers = append(s.layers, layer[T]{reg, wrap})
}

// Get asks for an instance, building it if need be. What needs itself fails with ErrCycle and its path.
func (s *Service[T]) Get(a Asker) (T, error) {
	who := a.asking()
	if s.lifetime != Singleton && s.lifetime != Scoped && s.lifetime != Transient {
		var none T
		return none, fmt.Errorf("%s is provided as %q, which is no lifetime; use Singleton, Scoped or Transient", s.name, s.lifetime)
	}
	home := who.scope
	if s.lifetime == Singleton {
		home = s.wiring.root
	}
	value, inst, err := s.from(home, &who)
	if err != nil {
		var none T
		return none, s.fail(&who, err)
	}
	if b := who.building; b != nil {
		b.mu.Lock()
		b.with = append(b.with, event.With{Inst: inst, Service: s.name, Key: s.options.key, HasKey: s.options.key != ""})
		b.mu.Unlock()
		return value, nil
	}
	s.wiring.rec.Give(record.Giving{Inst: inst, Scope: who.scope.id, Entry: who.entry, Service: s.name, Key: s.options.key, How: "locator"})
	return value, nil
}

// failure is why something could not be built. It is recorded where it happens, and not again by its consumers.
type failure struct {
	error
	told bool
}

// Unwrap returns what the failure is about.
func (f *failure) Unwrap() error { return f.error }

// fail records a failure, once.
func (s *Service[T]) fail(who *asking, err error) error {
	var known *failure
	if !errors.As(err, &known) {
		why := "error"
		switch {
		case errors.Is(err, ErrClosed):
			why = "closed"
		case errors.Is(err, ErrCycle):
			why = "cycle"
		}
		s.wiring.rec.Fail(record.Failure{
			Service: s.name, Key: s.options.key, Why: why, Scope: who.scope.id, For: who.building.registration(), Path: append(who.building.path(), s.name), Err: err, Entry: who.entry,
		})
		known = &failure{error: err, told: true}
	}
	return &failure{error: fmt.Errorf("%s: %w", s.name, err), told: known.told}
}

// from returns the instance that home has, or a new one.
func (s *Service[T]) from(home *Scope, who *asking) (T, record.InstID, error) {
	var none T
	for {
		home.mu.Lock()
		if home.closed {
			home.mu.Unlock()
			return none, 0, ErrClosed
		}
		if s.lifetime == Transient {
			home.mu.Unlock()
			if err := s.circle(who.building); err != nil {
				return none, 0, err
			}
			return s.make(home, who, nil)
		}
		e, there := home.built[s], true
		if e == nil {
			e, there = &entry{ready: make(chan struct{})}, false
			home.built[s] = e
		}
		home.mu.Unlock()
		if there {
			if err := s.await(e, who.building); err != nil {
				return none, 0, err
			}
			if e.failed {
				continue // the requester tries again
			}
			return e.value.(T), e.inst, nil
		}
		return s.fill(e, home, who)
	}
}

// fill builds what an entry is for. Where that fails, or panics, the entry goes, so that the next request tries again.
func (s *Service[T]) fill(e *entry, home *Scope, who *asking) (value T, inst record.InstID, err error) {
	e.failed = true
	defer func() {
		if e.failed {
			home.mu.Lock()
			delete(home.built, s)
			home.mu.Unlock()
		}
		close(e.ready)
	}()
	value, inst, err = s.make(home, who, e)
	if err == nil {
		e.value, e.inst, e.failed = value, inst, false
	}
	return value, inst, err
}

// circle returns ErrCycle where a transient is being built for the sake of itself.
func (s *Service[T]) circle(b *Building) error {
	for at := b; at != nil; at = at.outer {
		if at.of == any(s) {
			return s.cycle(at, b)
		}
	}
	return nil
}

// cycle makes an error of the way from what is being built, over what is asked for, back to itself.
func (s *Service[T]) cycle(from, to *Building, further ...string) error {
	path := append(to.path()[len(from.path())-1:], s.name)
	return fmt.Errorf("%w: %s", ErrCycle, strings.Join(append(path, further...), " → "))
}

// await waits until an entry is built, unless its builder waits for b.
func (s *Service[T]) await(e *entry, b *Building) error {
	select {
	case <-e.ready:
		return nil
	default:
	}
	w := s.wiring
	w.waits.Lock()
	if from, further := e.leadsTo(b, map[*entry]bool{}); from != nil {
		w.waits.Unlock()
		return s.cycle(from, b, further...)
	}
	for at := b; at != nil; at = at.outer {
		at.waiting = append(at.waiting, e)
	}
	w.waits.Unlock()
	began := time.Now()
	<-e.ready
	w.waits.Lock()
	for at := b; at != nil; at = at.outer {
		if n := slices.Index(at.waiting, e); n >= 0 {
			at.waiting = slices.Delete(at.waiting, n, n+1)
		}
	}
	w.waits.Unlock()
	for at := b; at != nil; at = at.outer {
		at.mu.Lock()
		at.waited += time.Since(began)
		at.mu.Unlock()
	}
	return nil
}

// leadsTo returns which of b and what lies around it e's builder waits for, nil if none, and the names of what lies between.
// The caller holds waits.
func (e *entry) leadsTo(b *Building, seen map[*entry]bool) (*Building, []string) {
	if seen[e] || e.by == nil {
		return nil, nil
	}
	seen[e] = true
	for at := b; at != nil; at = at.outer {
		if at == e.by {
			return at, nil
		}
	}
	for _, next := range e.by.waiting {
		if at, names := next.leadsTo(b, seen); at != nil {
			return at, append([]string{next.by.name}, names...)
		}
	}
	return nil, nil
}

// make builds an instance and the layers around it, for an entry if one is given.
func (s *Service[T]) make(home *Scope, who *asking, e *entry) (T, record.InstID, error) {
	value, inst, err := s.one(s.reg, home, who, e, nil, s.build)
	for _, l := range s.layers {
		if err != nil {
			break
		}
		inner := event.With{Inst: inst, Site: "inner", Service: s.name, Key: s.options.key, HasKey: s.options.key != ""}
		within := value
		value, inst, err = s.one(l.reg, home, who, e, []event.With{inner}, func(b *Building) (T, error) { return l.wrap(b, within) })
	}
	return value, inst, err
}

func (s *Service[T]) one(
	reg record.RegID, home *Scope, who *asking, e *entry, with []event.With, build func(*Building) (T, error),
) (T, record.InstID, error) {
	rec := s.wiring.rec
	// What a singleton is built from lives at the root too.
	b := &Building{scope: home, outer: who.building, reg: reg, name: s.name, of: s, with: with}
	if e != nil {
		s.wiring.waits.Lock()
		e.by = b
		s.wiring.waits.Unlock()
	}
	began := time.Now()
	built := false
	defer func() {
		if !built { // it panics
			rec.Fail(record.Failure{
				Service: s.name, Key: s.options.key, Why: "error", Scope: who.scope.id, For: who.building.registration(), Path: b.path(), Entry: who.entry,
			})
		}
	}()
	value, err := build(b)
	built = true
	ended := time.Now()
	if err != nil {
		return value, 0, err
	}
	dispose, err := s.disposer(value)
	if err != nil {
		return value, 0, err
	}
	b.mu.Lock()
	with, waited := b.with, b.waited
	b.mu.Unlock()
	m := record.Making{
		Reg: reg, Scope: who.scope.id, With: with, Took: ended.Sub(began) - waited, When: ended, Impl: s.wiring.names.Type(reflect.TypeOf(value)), Disposable: dispose != nil, By: "factory",
		Lasting: home == s.wiring.root,
	}
	if s.lifetime != Singleton {
		m.Owner = record.OwnedBy(home.id)
	}
	inst := rec.Make(m)
	rec.Know(value, inst)
	if dispose != nil {
		kept := &entry{inst: inst, dispose: dispose}
		home.mu.Lock()
		closed := home.closed
		if !closed {
			home.order = append(home.order, kept)
		}
		home.mu.Unlock()
		if closed {
			return value, 0, errors.Join(ErrClosed, home.end(kept))
		}
	}
	return value, inst, nil
}

// disposer returns what lets value go, nil if nothing has to.
func (s *Service[T]) disposer(value T) (func() error, error) {
	if s.options.dispose != nil {
		if of := reflect.TypeOf(value); of == nil || !of.AssignableTo(s.options.takes) {
			return nil, fmt.Errorf("%T was built, and what is to dispose it takes %s: see DisposeWith", value, s.options.takes)
		}
		return func() error { err, _ := s.options.dispose(value); return err }, nil
	}
	if c, ok := any(value).(io.Closer); ok {
		return c.Close, nil
	}
	return nil, nil
}

// caller returns where the registration is in the source.
func caller() string { return adapt.Caller("keenlantern.example/record/wired") }
