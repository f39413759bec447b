package record

import (
	"fmt"
	"math/rand/v2"
	"time"

	"keenlantern.example/record/event"
)

// Registration is one line of a container's set-up; see register in docs/trace-format.md. Only Service is required.
type Registration struct {
	Service    string
	Impl       string
	Lifetime   string // "singleton", "scoped", "transient", "per-consumer", "external"; "": unknown
	Key        string
	HasKey     bool // set it for the empty key; a Key that is not empty is one anyway
	Container  ContainerID
	Needs      []event.Need
	Wraps      RegID // the registration that this one decorates; 0: none
	Alias      RegID
	In         Part // where it applies as a layer; the zero value: everywhere
	Local      bool // registered on each scope, not on the container
	Internal   bool
	Disposable bool
	Disposer   string // "container", "code", "nobody"; "": the container's default
	At         string // the place in the source, "wiring.go:41"
	Module     string
}

// Part is a part of an application in which a layer applies: one of a container, a module, and a kind of scope.
type Part struct {
	Container ContainerID
	Module    string
	ScopeKind string
}

// Container says that there is a container, and what its root scope is. in is 0 for one without a parent.
func (r *Recorder) Container(name string, root ScopeID, in ContainerID) ContainerID {
	if r == nil {
		return 0
	}
	id := ContainerID(r.containers.Add(1))
	e := &event.Event{Kind: event.Container, Container: id, Scope: root, Has: event.Of(event.FContainer, event.FScope)}
	text(e, event.FName, &e.Name, name)
	if in != 0 {
		e.InCont = in
		e.Has.Set(event.FIn)
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	if r.rootCount.Add(1) <= maxRoots {
		r.roots.Store(root, struct{}{})
	}
	r.tell(e)
	return id
}

// maxRoots bounds how many containers' roots outlive sessions.
const maxRoots = 10_000

// Register says what is registered and returns the registration's id.
func (r *Recorder) Register(g Registration) RegID {
	if r == nil {
		return 0
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	id := RegID(r.regs.Add(1))
	e := &event.Event{Kind: event.Register, Reg: id, Service: g.Service, Has: event.Of(event.FReg, event.FService)}
	text(e, event.FImpl, &e.Impl, g.Impl)
	text(e, event.FLifetime, &e.Lifetime, g.Lifetime)
	text(e, event.FDisposer, &e.Disposer, g.Disposer)
	text(e, event.FAt, &e.At, g.At)
	text(e, event.FModule, &e.Module, g.Module)
	if g.HasKey || g.Key != "" {
		e.Key = g.Key
		e.Has.Set(event.FKey)
	}
	if g.Container != 0 {
		e.Container = g.Container
		e.Has.Set(event.FContainer)
	}
	if len(g.Needs) > 0 {
		e.Needs = g.Needs
		e.Has.Set(event.FNeeds)
	}
	if g.Wraps != 0 {
		e.Wraps = g.Wraps
		e.Has.Set(event.FWraps)
	}
	if g.Alias != 0 {
		e.Alias = g.Alias
		e.Has.Set(event.FAlias)
	}
	if g.In != (Part{}) {
		e.InCont, e.InModule, e.InKind = g.In.Container, g.In.Module, g.In.ScopeKind
		e.Has.Set(event.FIn)
	}
	flag(e, event.FLocal, &e.Local, g.Local)
	flag(e, event.FInternal, &e.Internal, g.Internal)
	flag(e, event.FDisposable, &e.Disposable, g.Disposable)
	switch g.Lifetime {
	case "singleton", "per-consumer", "external":
		r.long.set(uint64(id))
	}
	r.tell(e)
	return id
}

// outlives tells whether the instances of a registration outlive scopes.
func (r *Recorder) outlives(reg RegID) bool {
	return r.long.has(uint64(reg))
}

// Scope is a stretch of work with its own instances.
type Scope struct {
	In    ScopeID // the scope around it; 0: the root
	Kind  string  // "request", "job", "message" …
	Name  string  // "GET /tides/{gauge}"
	Trace string  // a W3C trace-id
}

// Open says that a scope has begun and returns its id, Unrecorded where it is left out. It ends with CloseScope.
func (r *Recorder) Open(g Scope) ScopeID {
	if r == nil {
		return 0
	}
	s := r.session.Load()
	switch {
	case s == nil:
		return Unrecorded
	case !r.in(s, g.In):
		return g.In // what is inside a scope that is left out is left out with it
	case g.In == 0 && s.share < 1 && rand.Float64() >= s.share:
		return Unrecorded
	case r.crowded.Load():
		r.skipped.Add(1)
		return dropped
	}
	id := ScopeID(r.scopes.Add(1))
	r.add(s, &note{
		kind: event.Open, scope: id, other: InstID(g.In), weight: s.weight, text: [5]string{g.Kind, g.Name, g.Trace},
	}, nil)
	return id
}

// CloseScope says that a scope has ended: after its instances were disposed, or without anything having done so.
func (r *Recorder) CloseScope(id ScopeID) {
	if r == nil {
		return
	}
	if s := r.session.Load(); s != nil && r.in(s, id) {
		r.add(s, &note{kind: event.Close, scope: id}, nil)
	}
}

// Making is an instance that has been built. Took includes the dependencies that were built for it.
type Making struct {
	Reg        RegID   // 0: constructed past the container
	Scope      ScopeID // the scope in which the asking work runs
	With       []event.With
	Took       time.Duration
	By         string // "container" by default, "factory", "external", "direct"
	Impl       string // what was built, where the registration does not say or says otherwise
	Disposable bool   // where the registration does not say so
	Module     string
}

// Make says that an instance was built and returns its id.
func (r *Recorder) Make(m Making) InstID {
	if r == nil {
		return 0
	}
	s := r.session.Load()
	if r.outlives(m.Reg) {
		return r.makeForGood(m)
	}
	if s == nil || !r.in(s, m.Scope) {
		return 0
	}
	id := InstID(r.insts.Add(1))
	r.add(s, &note{
		kind: event.Make, inst: id, scope: m.Scope, reg: m.Reg, ns: m.Took.Nanoseconds(), disposable: m.Disposable,
		text: [5]string{m.By, m.Impl, m.Module},
	}, m.With)
	return id
}

// makeForGood notes what outlives scopes. It is remembered even while nothing is recorded, to be told when that begins.
func (r *Recorder) makeForGood(m Making) InstID {
	r.setup.Lock()
	defer r.setup.Unlock()
	id := InstID(r.insts.Add(1))
	s := r.session.Load()
	scope := m.Scope
	if s == nil || !r.in(s, scope) {
		scope = 0
	}
	n := note{
		kind: event.Make, inst: id, scope: scope, reg: m.Reg, ns: m.Took.Nanoseconds(), disposable: m.Disposable,
		text: [5]string{m.By, m.Impl, m.Module},
	}
	// The scope it was built in may be gone by the time it is told, and what it was given too.
	k := kept{
		reg: m.Reg, at: time.Now().UnixNano(), ns: m.Took.Nanoseconds(), by: short(m.By), impl: short(m.Impl), module: short(m.Module), disposable: m.Disposable,
	}
	if r.remember(k.cost()) {
		r.kept[id] = k
	} else {
		r.untold++
	}
	if s != nil {
		r.add(s, &n, m.With)
	}
	return id
}

// gone forgets what was remembered to be told again.
func (r *Recorder) gone(inst InstID) {
	r.setup.Lock()
	if k, ok := r.kept[inst]; ok {
		delete(r.kept, inst)
		r.forgot(k.cost())
	}
	r.setup.Unlock()
}

// Giving is an instance that was handed out other than through its consumer's constructor.
type Giving struct {
	Inst    InstID
	Scope   ScopeID // 0 with NoScope: not known
	NoScope bool
	To      InstID // an existing instance, or 0
	Entry   string // a handler, view, job …, or ""
	Service string // what was asked for, where that is not what it is registered as
	Key     string
	How     string // "method", "locator", "property", "factory", "provider"
	Site    string
}

// Give says that an instance was handed out.
func (r *Recorder) Give(g Giving) {
	if r == nil || g.Inst == 0 {
		return
	}
	s := r.session.Load()
	if s == nil || !s.knows(g.Inst) || !g.NoScope && !r.in(s, g.Scope) {
		return
	}
	to := g.To
	if to != 0 && !s.knows(to) {
		to = 0
	}
	r.add(s, &note{
		kind: event.Give, inst: g.Inst, other: to, scope: g.Scope, noScope: g.NoScope,
		text: [5]string{g.Entry, g.Service, g.How, g.Key, g.Site},
	}, nil)
}

// Use says that an instance was called, by another one or by code that is none (0), in a scope, and how long it took.
func (r *Recorder) Use(inst, by InstID, scope ScopeID, took time.Duration) {
	if r == nil || inst == 0 {
		return
	}
	s := r.session.Load()
	if s == nil || !s.knows(inst) || !r.in(s, scope) {
		return
	}
	if by != 0 && !s.knows(by) {
		by = 0
	}
	r.addUse(s, use{inst: inst, by: by, scope: scope, ns: took.Nanoseconds()})
}

// DisposeState says how far a disposal has come.
type DisposeState string

// The states a recorder here can write.
const (
	Begun DisposeState = "begun"
	Done  DisposeState = "done"
)

// Dispose says that an instance is being or was disposed, by "container", "owner" or "code"; failure, if not nil, makes
// it a failed one. Of a failure its type is recorded and never its text, which may hold anything.
func (r *Recorder) Dispose(inst InstID, scope ScopeID, by string, state DisposeState, took time.Duration, failure error) {
	if r == nil || inst == 0 {
		return
	}
	if state == Done && failure == nil {
		r.objects.disposed(inst)
	}
	if state == Done && failure == nil {
		r.gone(inst)
	}
	s := r.session.Load()
	if s == nil || !s.knows(inst) {
		return
	}
	if !r.in(s, scope) {
		scope = 0 // of something that outlives the scope: it ends all the same
	}
	n := note{kind: event.Dispose, inst: inst, scope: scope, ns: took.Nanoseconds(), text: [5]string{by, string(state), ""}}
	if failure != nil {
		n.text[1], n.text[2] = "failed", fmt.Sprintf("%T", failure)
	}
	r.add(s, &n, nil)
}

// Forget says that an instance is gone without having been disposed, by "runtime" (collected) or "container".
func (r *Recorder) Forget(inst InstID, by string) {
	if r == nil || inst == 0 {
		return
	}
	r.gone(inst)
	if s := r.session.Load(); s != nil && s.knows(inst) {
		r.add(s, &note{kind: event.Forget, inst: inst, text: [5]string{by}}, nil)
	}
}

// Failure is something that could not be built; see fail in docs/trace-format.md.
type Failure struct {
	Service  string
	Key      string
	Why      string // "missing", "cycle", "ambiguous", "lifetime", "no-scope", "closed", "error"
	Scope    ScopeID
	Path     []string // outermost first
	Message  string
	Optional bool
}

// Fail says that something could not be built.
func (r *Recorder) Fail(f Failure) {
	if r == nil {
		return
	}
	s := r.session.Load()
	if s == nil || !r.in(s, f.Scope) {
		return
	}
	e := &event.Event{
		Kind: event.Fail, Service: f.Service, Why: f.Why, Scope: f.Scope, Message: f.Message,
		Has: event.Of(event.FService, event.FWhy, event.FScope),
	}
	text(e, event.FKey, &e.Key, f.Key)
	flag(e, event.FOptional, &e.Optional, f.Optional)
	if len(f.Path) > 0 {
		e.Path = append(e.Path, f.Path...)
		e.Has.Set(event.FPath)
	}
	r.add(s, &note{ev: e}, nil)
}
