package samberdo

import (
	"errors"
	"reflect"
	"strings"
	"sync"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
)

// Option says more of a registration or a request than the container knows.
type Option struct {
	what optionKind
	text string
	to   any
}

type optionKind int

const (
	isKey optionKind = iota + 1
	isModule
	isAround
	isEntry
	isTo
	isSite
)

// Key registers or asks for one of several of the same type. The container knows it by the type's name and the key, with a
// space between them.
func Key(key string) Option { return Option{what: isKey, text: key} }

// Module returns which module, package or framework registers it.
func Module(name string) Option { return Option{what: isModule, text: name} }

// Around records that what is registered is a layer around what is registered under key for the same type, and asks for it.
func Around(key string) Option { return Option{what: isAround, text: key} }

// Entry names the handler, job or message that asks.
func Entry(name string) Option { return Option{what: isEntry, text: name} }

// To names the existing instance that asks, and the field or variable that it is for.
func To(receiver any, site string) Option { return Option{what: isTo, text: site, to: receiver} }

// Site names what a provider asks for: the parameter or field it goes to.
func Site(name string) Option { return Option{what: isSite, text: name} }

// find returns what an option of a kind says.
func find(list []Option, what optionKind) (Option, bool) {
	for _, o := range list {
		if o.what == what {
			return o, true
		}
	}
	return Option{}, false
}

// names keeps what types and keys are called in the container, which is costly to put together for each request.
var names = struct {
	sync.RWMutex
	by    map[typeAndKey]string
	parts map[string]parts
}{by: map[typeAndKey]string{}, parts: map[string]parts{}}

// parts are what a name in the container is put together from.
type parts struct {
	service, key string
	keyed        bool
}

// partsOf returns them: a name that was not put together here is a service's.
func (b *box) partsOf(name string) parts {
	names.RLock()
	p, ok := names.parts[name]
	names.RUnlock()
	if !ok {
		p.service = name
	}
	p.service = b.names.Of(p.service)
	return p
}

type typeAndKey struct {
	of    reflect.Type
	key   string
	keyed bool
}

// nameOf returns what a type and key are called in the container.
func nameOf[T any](list []Option) string {
	key, keyed := find(list, isKey)
	return named[T](key.text, keyed)
}

func named[T any](key string, keyed bool) string {
	k := typeAndKey{reflect.TypeFor[T](), key, keyed}
	names.RLock()
	name, ok := names.by[k]
	names.RUnlock()
	if ok {
		return name
	}
	p := parts{do.NameOf[T](), key, keyed}
	name = p.service
	if keyed {
		name += " " + key
	}
	names.Lock()
	defer names.Unlock()
	if len(names.by) < maxNames {
		names.by[k], names.parts[name] = name, p
	}
	return name
}

// maxNames bounds how many are kept; keys may be made up.
const maxNames = 100_000

// about is what the options of a registration say.
type about struct {
	service string // the container's name of the type
	list    []Option
	around  string // the container's name of what it is a layer around
}

// put adds what the options say to a registration on a scope.
func (a *about) put(b *box, s *scope, g *record.Registration) {
	g.Service = b.names.Of(a.service)
	if key, keyed := find(a.list, isKey); keyed {
		g.Key, g.HasKey = key.text, true
	}
	if module, ok := find(a.list, isModule); ok {
		g.Module = module.text
	}
	if a.around != "" {
		g.Wraps = b.answering(s, a.around)
	}
}

// saying registers something while what the options say of it is known; it reports whether what is built is to be seen.
func saying[T any](i do.Injector, name string, list []Option, register func(seen bool)) {
	b := of(i)
	if b == nil || i.ID() != b.id && !b.rec.On() || b.leftOut(i) {
		register(false)
		return
	}
	a := &about{service: named[T]("", false), list: list}
	if around, ok := find(list, isAround); ok {
		a.around = named[T](around.text, true)
	}
	k := regKey{name, i.ID()}
	b.mu.Lock()
	b.said[k] = a
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.said, k)
	}()
	register(true)
}

// Register registers what build makes once for the scope i is: a singleton on the root, scoped on any other. It is
// do.ProvideNamed with more options.
func Register[T any](i do.Injector, build do.Provider[T], opts ...Option) {
	name := nameOf[T](opts)
	saying[T](i, name, opts, func(bool) { do.ProvideNamed(i, name, build) })
}

// RegisterEach registers what build makes again at each request, and has it seen as Seen does. The container never disposes
// such instances: report that with record's Closed.
func RegisterEach[T any](i do.Injector, build do.Provider[T], opts ...Option) {
	name := nameOf[T](opts)
	saying[T](i, name, opts, func(seen bool) {
		if seen {
			build = Seen(build)
		}
		do.ProvideNamedTransient(i, name, build)
	})
}

// RegisterValue registers an instance that was built outside the container, which disposes it all the same.
func RegisterValue[T any](i do.Injector, value T, opts ...Option) {
	name := nameOf[T](opts)
	saying[T](i, name, opts, func(bool) { do.ProvideNamedValue(i, name, value) })
}

// Seen returns a provider whose instances are known to the recorder, so that calls on them can be noted and their end is seen.
// Only those of transients need it: others are known anyway.
func Seen[T any](build do.Provider[T]) do.Provider[T] {
	return func(i do.Injector) (T, error) {
		v, err := build(i)
		if b := of(i); b != nil && err == nil && b.running.Load() > 0 {
			if st := b.stack(false); st != nil && len(st.frames) > 0 && !st.quiet {
				st.frames[len(st.frames)-1].value = v
			}
		}
		return v, err
	}
}

// ask is more of what is asked for than the container knows.
type ask struct {
	service, key string
	keyed        bool
	scope        record.ScopeID
	scoped       bool // scope is known
	entry, site  string
	to           any
}

// Ask asks i for a T, as do.Invoke and do.InvokeNamed do, and names the requester: within a provider Site, anywhere else Entry or
// To. An unregistered type is recorded as a failure.
func Ask[T any](i do.Injector, opts ...Option) (T, error) {
	name := nameOf[T](opts)
	b := of(i)
	if b == nil || !b.rec.On() || b.running.Load() == 0 && b.leftOut(i) {
		v, _, err := invoke[T](i, name, opts)
		return v, err
	}
	a := b.asking(i, b.names.Of(named[T]("", false)), opts)
	st := b.stack(true)
	st.ask = a
	v, name, err := invoke[T](i, name, opts)
	if st.ask == a {
		// No hook was called: it is not registered.
		st.ask = nil
		b.missing(i, name, st, a, err)
	}
	b.leave(st)
	return v, err
}

// invoke asks for what a name says, or, where nothing is registered under it, for what was registered under the key alone, with the
// container's own functions. It returns the name that was asked for last.
func invoke[T any](i do.Injector, name string, opts []Option) (T, string, error) {
	v, err := do.InvokeNamed[T](i, name)
	key, keyed := find(opts, isKey)
	if err == nil || !keyed || !errors.Is(err, do.ErrServiceNotFound) || provided(i, name) || !provided(i, key.text) {
		return v, name, err
	}
	v, err = do.InvokeNamed[T](i, key.text)
	return v, key.text, err
}

// provided reports whether i or a scope around it has a service of a name.
func provided(i do.Injector, name string) bool {
	for _, d := range i.ListProvidedServices() {
		if d.Service == name {
			return true
		}
	}
	return false
}

func (b *box) asking(i do.Injector, service string, opts []Option) *ask {
	a := &ask{service: service}
	for _, o := range opts {
		switch o.what {
		case isKey:
			a.key, a.keyed = o.text, true
		case isEntry:
			a.entry = o.text
		case isSite:
			a.site = o.text
		case isTo:
			a.to, a.site = o.to, o.text
		}
	}
	b.mu.RLock()
	defer b.mu.RUnlock()
	if i.ID() == b.id {
		return a
	}
	if s := b.scopes[i.ID()]; s != nil {
		a.scope, a.scoped = s.id, true
	}
	return a
}

// missing records something that was requested and that is not registered, where no provider asked: its own failure says
// so otherwise.
func (b *box) missing(i do.Injector, name string, st *stack, a *ask, err error) {
	if err == nil || len(st.frames) > 0 {
		return
	}
	fail := record.Failure{Service: a.service, Key: a.key, Why: "error", Scope: a.scope, Entry: a.entry}
	if !a.scoped {
		fail.Scope, _ = b.rec.Here()
	}
	switch {
	case errors.Is(err, do.ErrServiceNotFound) && b.shut(i, name):
		fail.Why = "closed"
	case errors.Is(err, do.ErrServiceNotFound):
		fail.Why, fail.Message = "missing", do.ErrServiceNotFound.Error()
	}
	b.rec.Fail(fail)
}

// shut reports whether a scope has been shut down: it has nothing, and scopes of its kind have a service of this name.
func (b *box) shut(i do.Injector, name string) bool {
	for _, d := range i.ListProvidedServices() {
		if d.ScopeID == i.ID() {
			return false
		}
	}
	b.mu.RLock()
	defer b.mu.RUnlock()
	for k := range b.regs {
		if k.name == name && k.kind != "" && strings.HasPrefix(i.Name(), k.kind) {
			return true
		}
	}
	return false
}

// MustAsk is Ask for providers: it panics where Ask fails, which the container turns into the provider's error.
func MustAsk[T any](i do.Injector, opts ...Option) T {
	v, err := Ask[T](i, opts...)
	if err != nil {
		panic(err)
	}
	return v
}
