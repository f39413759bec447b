package samberdo

import (
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"time"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// Option says more of a registration or a request.
type Option func(*options)

type options struct {
	key    string
	keyed  bool
	module string
	around string
	layer  bool
	entry  string
	to     any
	site   string
}

// Key registers or asks for one of several of the same type.
func Key(key string) Option { return func(o *options) { o.key, o.keyed = key, true } }

// Module says which module, package or framework registers it.
func Module(name string) Option { return func(o *options) { o.module = name } }

// Around says that what is registered is a layer around what is registered under key for the same type, and asks for it.
func Around(key string) Option { return func(o *options) { o.around, o.layer = key, true } }

// Entry names the handler, job or message that asks.
func Entry(name string) Option { return func(o *options) { o.entry = name } }

// To names the existing instance that asks, and the field or variable that it is for.
func To(receiver any, site string) Option { return func(o *options) { o.to, o.site = receiver, site } }

// Site names what a provider asks for: the parameter or field it goes to.
func Site(name string) Option { return func(o *options) { o.site = name } }

func collect(list []Option) options {
	var o options
	for _, opt := range list {
		opt(&o)
	}
	return o
}

// name returns what a type and key are called in the container.
func (o *options) name(service string) string {
	if o.keyed {
		return service + " " + o.key
	}
	return service
}

// Register registers what build makes once for the scope i is: a singleton on the root, scoped on any other.
func Register[T any](i do.Injector, build do.Provider[T], opts ...Option) {
	o := collect(opts)
	service := serviceName[T]()
	lifetime := "scoped"
	if i.RootScope().ID() == i.ID() {
		lifetime = "singleton"
	}
	register(i, &o, record.Registration{Service: service, Lifetime: lifetime, At: caller()})
	do.ProvideNamed(i, o.name(service), recorded(o.name(service), true, build))
}

// RegisterEach registers what build makes anew at each request. The container never disposes such instances.
func RegisterEach[T any](i do.Injector, build do.Provider[T], opts ...Option) {
	o := collect(opts)
	service := serviceName[T]()
	register(i, &o, record.Registration{Service: service, Lifetime: "transient", Disposer: "nobody", At: caller()})
	do.ProvideNamedTransient(i, o.name(service), recorded(o.name(service), false, build))
}

// RegisterValue registers an instance that was built outside the container, which disposes it all the same.
func RegisterValue[T any](i do.Injector, value T, opts ...Option) {
	o := collect(opts)
	service := serviceName[T]()
	name := o.name(service)
	if b := of(i); b != nil {
		reg := register(i, &o, record.Registration{
			Service: service, Impl: typeName(reflect.TypeOf(value)), Lifetime: "external", Disposer: "container", At: caller(),
		})
		if s := b.scope(i.ID()); s != nil {
			id := b.rec.Make(record.Making{Reg: reg, Scope: s.id, By: "external", Disposable: disposable(value)})
			b.rec.Know(value, id)
			b.note(s, name, id, true, disposable(value))
		}
	}
	do.ProvideNamedValue(i, name, value)
}

func register(i do.Injector, o *options, g record.Registration) record.RegID {
	b := of(i)
	if b == nil {
		return 0
	}
	s := b.scope(i.ID())
	if s == nil {
		return 0
	}
	g.Key, g.HasKey, g.Container = o.key, o.keyed, b.container
	g.Local = s.kind != "root"
	g.Module = o.module
	if o.layer {
		g.Wraps = b.registered(s, (&options{key: o.around, keyed: true}).name(g.Service))
	}
	name := o.name(g.Service)
	b.mu.Lock()
	defer b.mu.Unlock()
	at := regKey{name, s.kind, g.At}
	reg, known := b.regs[at]
	if !known {
		reg = b.rec.Register(g)
		b.regs[at] = reg
	}
	s.asked[name] = reg
	return reg
}

// registered returns the registration that answers in s for a name of the container's.
func (b *box) registered(s *scope, name string) record.RegID {
	b.mu.Lock()
	defer b.mu.Unlock()
	for ; s != nil; s = s.parent {
		if reg := s.asked[name]; reg != 0 {
			return reg
		}
	}
	return 0
}

// note remembers what the container keeps for the scope, and what of it it will dispose.
func (b *box) note(s *scope, name string, id record.InstID, kept, disposed bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if kept {
		s.kept[name] = id
	}
	if kept && disposed {
		s.built[name] = id
	}
}

// instance returns which instance v is: by its address, or where it has none of its own, as what the container keeps
// under a name.
func (b *box) instance(s *scope, name string, v any) record.InstID {
	if inst := b.rec.Of(v); inst != 0 {
		return inst
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for ; s != nil; s = s.parent {
		if s.asked[name] != 0 {
			return s.kept[name]
		}
	}
	return 0
}

// recorded wraps a provider so that what it builds is recorded. The container disposes what it keeps, and nothing else.
func recorded[T any](name string, kept bool, build do.Provider[T]) do.Provider[T] {
	return func(i do.Injector) (T, error) {
		b := of(i)
		if b == nil {
			return build(i)
		}
		s := b.scope(i.ID())
		if s == nil {
			return build(i)
		}
		b.mu.Lock()
		reg := s.asked[name]
		b.mu.Unlock()
		f := &frame{}
		b.frames.Store(i, f)
		defer b.frames.Delete(i)
		began := time.Now()
		v, err := build(i)
		if err != nil {
			return v, err
		}
		id := b.rec.Make(record.Making{
			Reg: reg, Scope: s.id, With: f.with, Took: time.Since(began), By: "factory",
			Impl: typeName(reflect.TypeOf(v)), Disposable: disposable(v),
		})
		b.rec.Know(v, id)
		b.note(s, name, id, kept, disposable(v))
		return v, nil
	}
}

// Ask asks i for a T. Inside a provider, i is the injector it was given, and what it gets is recorded as kept by what
// it builds; anywhere else, Entry or To say who asks.
func Ask[T any](i do.Injector, opts ...Option) (T, error) {
	o := collect(opts)
	service := serviceName[T]()
	v, err := do.InvokeNamed[T](i, o.name(service))
	b := of(i)
	if b == nil {
		return v, err
	}
	s := b.scope(i.ID())
	if s == nil {
		return v, err
	}
	if err != nil {
		b.failed(s, service, &o, err)
		return v, err
	}
	inst := b.instance(s, o.name(service), v)
	if f, running := b.frames.Load(i); running {
		f := f.(*frame)
		f.mu.Lock()
		f.with = append(f.with, event.With{Inst: inst, Site: o.site, Service: service, Key: o.key, HasKey: o.keyed})
		f.mu.Unlock()
		return v, nil
	}
	b.rec.Give(record.Giving{
		Inst: inst, Scope: s.id, To: b.rec.Of(o.to), Entry: o.entry, Service: service, Key: o.key, How: "locator", Site: o.site,
	})
	return v, nil
}

// MustAsk is Ask for providers: it panics where Ask fails, which the container turns into the provider's error.
func MustAsk[T any](i do.Injector, opts ...Option) T {
	v, err := Ask[T](i, opts...)
	if err != nil {
		panic(err)
	}
	return v
}

func (b *box) failed(s *scope, service string, o *options, err error) {
	// What fails because of something that was told already is no news.
	b.mu.Lock()
	consequence := s.told != "" && strings.Contains(err.Error(), s.told)
	s.told = err.Error()
	b.mu.Unlock()
	if consequence {
		return
	}
	// The container's own words name services only; an application's error may hold anything, so it is not recorded.
	why, message := "error", ""
	var path []string
	switch {
	case errors.Is(err, do.ErrServiceNotFound):
		why, message = "missing", do.ErrServiceNotFound.Error()
	case errors.Is(err, do.ErrCircularDependency):
		why, message = "cycle", do.ErrCircularDependency.Error()
		// The container lists the names that were asked for on the way, between backquotes.
		for n, part := range strings.Split(err.Error(), "`") {
			if n%2 == 1 && len(path) < maxPath {
				path = append(path, part)
			}
		}
	}
	b.rec.Fail(record.Failure{Service: service, Key: o.key, Why: why, Scope: s.id, Message: message, Path: path})
}

// maxPath bounds what is told of a cycle.
const maxPath = 64

func serviceName[T any]() string { return typeName(reflect.TypeFor[T]()) }

func typeName(t reflect.Type) string {
	if t == nil {
		return ""
	}
	return strings.TrimLeft(t.String(), "*")
}

// disposable tells whether the container has a way to dispose v.
func disposable(v any) bool {
	switch v.(type) {
	case do.Shutdowner, do.ShutdownerWithError, do.ShutdownerWithContext, do.ShutdownerWithContextAndError:
		return true
	}
	return false
}

// caller returns where the registration stands in the source: "wiring.go:34".
func caller() string {
	_, file, line, ok := runtime.Caller(2)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
