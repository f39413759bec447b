// Package wired is for applications that are wired by hand, in a plain main: a few generic helpers that provide, get,
// decorate and dispose, and tell a record.Recorder of it. It is a container as small as one can be; whoever has a real
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
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"sync"
	"time"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// Lifetime is how long what was built is kept.
type Lifetime string

// The lifetimes.
const (
	Singleton Lifetime = "singleton" // until the Wiring is closed
	Scoped    Lifetime = "scoped"    // until the Scope that asked is closed
	Transient Lifetime = "transient" // built anew each time, and disposed with the Scope that asked
)

// ErrClosed says that something was asked for from a scope that has been closed.
var ErrClosed = errors.New("the scope is closed")

// Wiring is what is provided. Its methods, and those of what it makes, may be called by several goroutines at once;
// what is registered is registered before anything is asked for.
type Wiring struct {
	rec       *record.Recorder
	container record.ContainerID
	root      *Scope
}

// New returns an empty Wiring that tells rec of what happens.
func New(rec *record.Recorder) *Wiring {
	w := &Wiring{rec: rec, container: rec.Container("wiring", 0, 0)}
	w.root = &Scope{wiring: w, built: map[any]*entry{}}
	return w
}

// Close disposes what lives as long as w, the latest first. The error joins those of the disposals.
func (w *Wiring) Close() error { return w.root.Close() }

// Open opens a scope of work.
func (w *Wiring) Open(s record.Scope) *Scope {
	return &Scope{wiring: w, id: w.rec.Open(s), built: map[any]*entry{}}
}

// Scope is a stretch of work with its own instances.
type Scope struct {
	wiring *Wiring
	id     record.ScopeID

	mu     sync.Mutex
	built  map[any]*entry // by service
	order  []*entry       // to be disposed
	closed bool
}

// entry is an instance that a scope keeps. Its lock is held while it is built, so that two who ask at once get one.
type entry struct {
	mu      sync.Mutex
	value   any
	inst    record.InstID
	dispose func() error
	done    bool
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
		e := order[n]
		rec, began := s.wiring.rec, time.Now()
		rec.Dispose(e.inst, s.id, "container", record.Begun, 0, nil)
		err := e.dispose()
		rec.Dispose(e.inst, s.id, "container", record.Done, time.Since(began), err)
		errs = append(errs, err)
	}
	if s != s.wiring.root {
		s.wiring.rec.CloseScope(s.id)
	}
	return errors.Join(errs...)
}

// Asker is who asks: a Scope, an entry point in one, or something that is being built.
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
	mu    sync.Mutex
	with  []event.With
}

func (b *Building) asking() asking { return asking{scope: b.scope, building: b} }

// Option says more of what is provided.
type Option func(*options)

type options struct {
	key     string
	dispose any
}

// Key provides one of several of the same type.
func Key(key string) Option { return func(o *options) { o.key = key } }

// DisposeWith lets an instance go with f, where it has no Close of its own.
func DisposeWith[T any](f func(T) error) Option { return func(o *options) { o.dispose = f } }

// Service is something that can be asked for.
type Service[T any] struct {
	wiring   *Wiring
	name     string
	key      string
	lifetime Lifetime
	reg      record.RegID
	build    func(*Building) (T, error)
	dispose  func(T) error
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
	s := &Service[T]{wiring: w, name: typeName(reflect.TypeFor[T]()), key: o.key, lifetime: lifetime, build: build}
	s.dispose, _ = o.dispose.(func(T) error)
	s.reg = w.rec.Register(record.Registration{Service: s.name, Key: s.key, Lifetime: string(lifetime), Container: w.container, At: caller()})
	return s
}

// Decorate puts a layer around what s provides: who asks gets what wrap makes of it. The latest layer is the outermost.
func Decorate[T any](s *Service[T], wrap func(*Building, T) (T, error)) {
	inner := s.reg
	if n := len(s.layers); n > 0 {
		inner = s.layers[n-1].reg
	}
	reg := s.wiring.rec.Register(record.Registration{
		Service: s.name, Key: s.key, Lifetime: string(s.lifetime), Container: s.wiring.container, Wraps: inner, At: caller(),
	})
	s.layers = append(s.layers, layer[T]{reg, wrap})
}

// Get asks for an instance, building it if need be.
func (s *Service[T]) Get(a Asker) (T, error) {
	who := a.asking()
	home := who.scope
	if s.lifetime == Singleton {
		home = s.wiring.root
	}
	value, inst, err := s.from(home, who.scope)
	if err != nil {
		var none T
		why := "error"
		if errors.Is(err, ErrClosed) {
			why = "closed"
		}
		s.wiring.rec.Fail(record.Failure{Service: s.name, Key: s.key, Why: why, Scope: who.scope.id})
		return none, fmt.Errorf("%s: %w", s.name, err)
	}
	if b := who.building; b != nil {
		b.mu.Lock()
		b.with = append(b.with, event.With{Inst: inst, Service: s.name, Key: s.key, HasKey: s.key != ""})
		b.mu.Unlock()
		return value, nil
	}
	s.wiring.rec.Give(record.Giving{Inst: inst, Scope: who.scope.id, Entry: who.entry, Service: s.name, Key: s.key, How: "locator"})
	return value, nil
}

// from returns the instance that home has, or a new one. The asking work runs in asked.
func (s *Service[T]) from(home, asked *Scope) (T, record.InstID, error) {
	var none T
	if s.lifetime == Transient {
		return s.make(home, asked)
	}
	home.mu.Lock()
	if home.closed {
		home.mu.Unlock()
		return none, 0, ErrClosed
	}
	e := home.built[s]
	if e == nil {
		e = &entry{}
		home.built[s] = e
	}
	home.mu.Unlock()
	e.mu.Lock()
	defer e.mu.Unlock()
	if !e.done {
		value, inst, err := s.make(home, asked)
		if err != nil {
			return none, 0, err
		}
		e.value, e.inst, e.done = value, inst, true
	}
	return e.value.(T), e.inst, nil
}

// make builds an instance and the layers around it.
func (s *Service[T]) make(home, asked *Scope) (T, record.InstID, error) {
	value, inst, err := s.one(s.reg, home, asked, nil, s.build)
	for _, l := range s.layers {
		if err != nil {
			break
		}
		inner := event.With{Inst: inst, Site: "inner", Service: s.name, Key: s.key, HasKey: s.key != ""}
		within := value
		value, inst, err = s.one(l.reg, home, asked, []event.With{inner}, func(b *Building) (T, error) { return l.wrap(b, within) })
	}
	return value, inst, err
}

func (s *Service[T]) one(reg record.RegID, home, asked *Scope, with []event.With, build func(*Building) (T, error)) (T, record.InstID, error) {
	rec := s.wiring.rec
	// What a singleton is built from lives at the root too.
	b := &Building{scope: home, with: with}
	began := time.Now()
	value, err := build(b)
	if err != nil {
		return value, 0, err
	}
	dispose := s.disposer(value)
	inst := rec.Make(record.Making{
		Reg: reg, Scope: asked.id, With: b.with, Took: time.Since(began), Impl: typeName(reflect.TypeOf(value)), Disposable: dispose != nil,
	})
	rec.Know(value, inst)
	if dispose != nil {
		home.mu.Lock()
		if home.closed {
			home.mu.Unlock()
			return value, 0, errors.Join(ErrClosed, dispose())
		}
		home.order = append(home.order, &entry{inst: inst, dispose: dispose})
		home.mu.Unlock()
	}
	return value, inst, nil
}

// disposer returns what lets value go, nil if nothing has to.
func (s *Service[T]) disposer(value T) func() error {
	if s.dispose != nil {
		return func() error { return s.dispose(value) }
	}
	if c, ok := any(value).(io.Closer); ok {
		return c.Close
	}
	return nil
}

func typeName(t reflect.Type) string {
	if t == nil {
		return ""
	}
	return strings.TrimLeft(t.String(), "*")
}

// caller returns where the registration stands in the source.
func caller() string {
	_, file, line, ok := runtime.Caller(2)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
