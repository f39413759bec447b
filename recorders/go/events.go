package record

import (
	"math/rand/v2"
	"time"

	"keenlantern.example/record/event"
)

// Registration is one line of a container's set-up; see register in docs/trace-format.md. Only Service is required.
type Registration struct {
	Service    string
	Also       []event.Also // further services and keys that the very same instances answer to
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
	Disposer   string   // "container", "code", "nobody"; "": the container's default
	Mechanism  string   // how instances declare that they are to be disposed: "interface", "annotation", "name", "code"; "": unknown
	Signature  string   // of the constructor that the container chose, "NewBerthPlanner(TideSource, BerthLedger)"
	Template   []string // what it answers for any of: "any-key", "any-type"; its forms are registrations of their own
	FormOf     RegID    // the template of which this is a closed form; 0: none
	Pooled     bool     // its instances are leased from a pool and Returned to it
	At         string   // the place in the source, "wiring.go:41"
	Module     string
	Sees       []string // what can be seen of its instances, where that differs from Config.Sees; nil: it does not
}

// Part is a part of an application in which a layer applies: one of a container, a module, and a kind of scope.
type Part struct {
	Container ContainerID
	Module    string
	ScopeKind string
}

// Container records that there is a container, and what its root scope is. in is 0 for one without a parent.
func (r *Recorder) Container(name string, root ScopeID, in ContainerID) ContainerID {
	if r == nil {
		return 0
	}
	return r.container(ContainerSetup{Name: name}, root, in)
}

func (r *Recorder) container(c ContainerSetup, root ScopeID, in ContainerID) ContainerID {
	id := ContainerID(r.containers.Add(1))
	e := &event.Event{Kind: event.Container, Container: id, Scope: root, Has: event.Of(event.FContainer, event.FScope)}
	text(e, event.FName, &e.Name, c.Name)
	text(e, event.FDuplicates, &e.Duplicates, c.Duplicates)
	text(e, event.FCycles, &e.Cycles, c.Cycles)
	text(e, event.FPer, &e.Per, c.Per)
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

// ContainerSetup is what is said of a container; see container in docs/trace-format.md. Only Name is required.
type ContainerSetup struct {
	Name       string
	Duplicates string // which of several registrations of one service answers: "last" by default, "first", "primary", "error"
	Cycles     string // "refused" by default, "proxied"
	Per        string // what one such container is built for each of, such as "tenant"
}

// Root records that there is a container with a root scope of its own, which is scope 0 for the first of them.
func (r *Recorder) Root(c ContainerSetup) (ContainerID, ScopeID) {
	if r == nil {
		return 0, 0
	}
	root := ScopeID(0)
	if r.rooted.Swap(true) {
		root = ScopeID(r.scopes.Add(1))
	}
	return r.container(c, root, 0), root
}

// Closed records that application code has let v go, a pointer that the recorder knows, as "defer rec.Closed(page)" does beside
// "defer page.Close()". Where it does not know v, nothing is recorded.
func (r *Recorder) Closed(v any) {
	if inst := r.Of(v); inst != 0 {
		r.Dispose(inst, r.here(), "code", Done, 0, nil)
	}
}

// here returns the scope that the calling goroutine works in, the root where that is not known.
func (r *Recorder) here() ScopeID {
	scope, _ := r.Here()
	return scope
}

// maxRoots bounds how many containers' roots outlive sessions.
const maxRoots = 10_000

// Register returns what is registered and returns the registration's id.
func (r *Recorder) Register(g Registration) RegID {
	if r == nil {
		return 0
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	id := RegID(r.regs.Add(1))
	r.register(id, &g)
	return id
}

// Again says more of a registration than was known when it was made: g takes the place of what was said.
func (r *Recorder) Again(id RegID, g Registration) {
	if r == nil || id == 0 {
		return
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	r.register(id, &g)
}

// register records a registration. The caller holds setup.
func (r *Recorder) register(id RegID, g *Registration) {
	e := &event.Event{Kind: event.Register, Reg: id, Service: g.Service, Has: event.Of(event.FReg, event.FService)}
	text(e, event.FImpl, &e.Impl, g.Impl)
	text(e, event.FLifetime, &e.Lifetime, g.Lifetime)
	text(e, event.FDisposer, &e.Disposer, g.Disposer)
	text(e, event.FAt, &e.At, g.At)
	text(e, event.FModule, &e.Module, g.Module)
	text(e, event.FMechanism, &e.Mechanism, g.Mechanism)
	text(e, event.FSignature, &e.Signature, g.Signature)
	if len(g.Template) > 0 {
		e.Template = g.Template
		e.Has.Set(event.FTemplate)
	}
	if g.FormOf != 0 {
		e.FormOf = g.FormOf
		e.Has.Set(event.FFormOf)
	}
	flag(e, event.FPooled, &e.Pooled, g.Pooled)
	if g.HasKey || g.Key != "" {
		e.Key = g.Key
		e.Has.Set(event.FKey)
	}
	if g.Container != 0 {
		e.Container = g.Container
		e.Has.Set(event.FContainer)
	}
	if len(g.Also) > 0 {
		e.Also = g.Also
		e.Has.Set(event.FAlso)
	}
	if g.Sees != nil {
		e.Sees = g.Sees
		e.Has.Set(event.FSees)
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
}

// outlives reports whether the instances of a registration outlive scopes.
func (r *Recorder) outlives(reg RegID) bool {
	return r.long.has(uint64(reg))
}

// Scope is a stretch of work with its own instances.
type Scope struct {
	In    ScopeID // the scope around it; 0: the root
	Kind  string  // "request", "job", "message" …
	Name  string  // "GET /tides/{gauge}"
	Trace string  // a W3C trace-id
	// Closer is who has to close it: "framework", "code", or "unknown" where nothing says; "": not said.
	Closer string
	At     string // the place in the source that opens it
	Opener InstID // the instance that opens it; 0: none known
	// Within is the scope whose work opens this one, where it does not lie in it: a job's from the root within a request. 0: none.
	Within ScopeID
	// Lasting: it may last until its container is shut down, which ends it: a session, a tenant. Requests lie in it, or Join it.
	Lasting bool
}

// Open records that a scope has begun and returns its id, Unrecorded where it is left out. It ends with CloseScope.
func (r *Recorder) Open(g Scope) ScopeID {
	if r == nil {
		return 0
	}
	s := r.session.Load()
	if left, out := r.leftOut(s, g.In); out {
		return left
	}
	return r.open(s, &g)
}

// leftOut draws whether a scope that begins is left out, and returns what stands for it then.
func (r *Recorder) leftOut(s *session, in ScopeID) (ScopeID, bool) {
	switch {
	case s == nil:
		return Unrecorded, true
	case !r.in(s, in):
		return in, true // what is inside a scope that is left out is left out with it
	case in == 0 && s.share < 1 && rand.Float64() >= s.share:
		return Unrecorded, true
	case r.crowded.Load():
		r.skipped.Add(1)
		return dropped, true
	}
	return 0, false
}

// open begins a scope that is recorded.
func (r *Recorder) open(s *session, g *Scope) ScopeID {
	id := ScopeID(r.scopes.Add(1))
	if g.Within == g.In || !r.in(s, g.Within) {
		g.Within = 0
	}
	r.add(s, &note{
		kind: event.Open, scope: id, other: InstID(g.In), inst: g.Opener, reg: RegID(g.Within), weight: s.weight, lasting: g.Lasting,
		text: [5]string{g.Kind, g.Name, g.Trace, g.Closer, g.At},
	}, nil)
	return id
}

// Join records that a scope belongs to another one without lying in it, as a request belongs to a session.
func (r *Recorder) Join(scope, around ScopeID) {
	if r == nil || scope == around {
		return
	}
	if s := r.session.Load(); s != nil && scope != 0 && around != 0 && r.in(s, scope) && r.in(s, around) {
		r.add(s, &note{kind: event.Join, scope: scope, other: InstID(around)}, nil)
	}
}

// CloseScope records that a scope has ended: after its instances were disposed, or without anything having done so.
func (r *Recorder) CloseScope(id ScopeID) {
	if r == nil {
		return
	}
	if s := r.session.Load(); s != nil && r.in(s, id) {
		r.add(s, &note{kind: event.Close, scope: id}, nil)
	}
}

// Making is an instance that has been built. Took includes the dependencies that were built for it, and leaves out waiting
// for what another goroutine was building.
type Making struct {
	Reg        RegID   // 0: constructed past the container
	Scope      ScopeID // the scope in which the asking work runs
	Owner      Owner   // the scope with which it ends, where that is not what its lifetime says
	Lasting    bool    // it lives as long as its container, whatever its lifetime says: something that does keeps it
	With       []event.With
	Took       time.Duration
	By         string      // "container" by default, "factory", "external", "direct"
	Impl       string      // what was built, where the registration does not say or says otherwise
	Disposable bool        // where the registration does not say so
	Disposer   string      // where the registration does not say so
	Container  ContainerID // that built it, where it is not the registration's
	Module     string      // that consumes it
	When       time.Time   // when construction ended, from which Took is counted back; the zero time: now
}

// Owner is the scope with which an instance ends. The zero value leaves it to the lifetime.
type Owner struct {
	scope      ScopeID
	said, none bool
}

// OwnedBy records that an instance ends with a scope.
func OwnedBy(scope ScopeID) Owner { return Owner{scope: scope, said: true} }

// OwnedByKeeper records that an instance lives as long as what keeps it.
func OwnedByKeeper() Owner { return Owner{said: true, none: true} }

// Make records that an instance was built and returns its id.
func (r *Recorder) Make(m Making) InstID {
	if r == nil {
		return 0
	}
	s := r.session.Load()
	switch {
	case m.Lasting || r.outlives(m.Reg):
		return r.makeForGood(m)
	case s == nil:
		return 0
	case m.Owner.said && !m.Owner.none:
		if !r.in(s, m.Owner.scope) {
			return 0
		}
		if !r.in(s, m.Scope) {
			m.Scope = m.Owner.scope
		}
	case !r.in(s, m.Scope):
		return 0
	}
	id := InstID(r.insts.Add(1))
	n := m.note(id)
	r.add(s, &n, m.With)
	return id
}

func (m *Making) note(id InstID) note {
	n := note{
		kind: event.Make, inst: id, scope: m.Scope, reg: m.Reg, ns: m.Took.Nanoseconds(), disposable: m.Disposable,
		owner: m.Owner, container: m.Container, text: [5]string{m.By, m.Impl, m.Module, m.Disposer},
	}
	if !m.When.IsZero() {
		n.when = m.When
	}
	return n
}

// KeptScope is a scope that is not recorded, since recording was off when it was opened or it was left out, but for what
// something keeps of it that outlives it.
type KeptScope struct {
	Kind string

	id             ScopeID
	opened, closed int64 // Unix ns; 0: not yet
}

// Keep records that something which outlives scopes keeps an instance, or that what is kept keeps it, which was built in a scope
// that is not recorded. It is written immediately, or when recording begins. It returns the instance's id.
func (r *Recorder) Keep(m Making, in *KeptScope) InstID {
	if r == nil {
		return 0
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	s := r.session.Load()
	id := InstID(r.insts.Add(1))
	k := keptOf(&m)
	k.in = in
	if in.id == 0 {
		in.id = ScopeID(r.scopes.Add(1))
		in.opened = k.making.When.UnixNano() - m.Took.Nanoseconds()
		if s != nil {
			r.add(s, &note{ev: in.open(s.start.UnixNano())}, nil)
		}
	}
	m.Scope = in.id
	if s != nil {
		n := m.note(id)
		r.add(s, &n, m.With)
	}
	r.keep(id, k)
	return id
}

// CloseKept records that a scope of which something is kept has ended.
func (r *Recorder) CloseKept(in *KeptScope) {
	if r == nil {
		return
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	if in.id == 0 || in.closed != 0 {
		return
	}
	in.closed = time.Now().UnixNano()
	if s := r.session.Load(); s != nil && (in.id >= s.firstScope || s.scopes[in.id]) {
		r.add(s, &note{kind: event.Close, scope: in.id}, nil)
	}
}

// keep remembers what is alive. The caller holds setup.
func (r *Recorder) keep(id InstID, k kept) {
	if r.remember(k.cost()) {
		r.kept[id] = k
	} else {
		r.untold++
	}
}

// makeForGood notes what outlives scopes. It is kept even while nothing is recorded, to be written when recording begins.
func (r *Recorder) makeForGood(m Making) InstID {
	r.setup.Lock()
	defer r.setup.Unlock()
	id := InstID(r.insts.Add(1))
	s := r.session.Load()
	if s == nil || !r.in(s, m.Scope) {
		m.Scope = 0
	}
	r.keep(id, keptOf(&m))
	if s != nil {
		n := m.note(id)
		r.add(s, &n, m.With)
	}
	return id
}

// gone drops what was kept to be written again. What something else keeps is kept beyond its disposal: that it is
// kept is what matters.
func (r *Recorder) gone(inst InstID, disposed bool) {
	r.setup.Lock()
	defer r.setup.Unlock()
	k, ok := r.kept[inst]
	if ok && disposed && k.in != nil {
		k.disposed = time.Now().UnixNano()
		r.kept[inst] = k
	} else if ok {
		delete(r.kept, inst)
		r.forgot(k.cost())
	}
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
	All     bool // all of the service were asked for, and this is one of them
}

// Give records that an instance was handed out.
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
		kind: event.Give, inst: g.Inst, other: to, scope: g.Scope, noScope: g.NoScope, all: g.All,
		text: [5]string{g.Entry, g.Service, g.How, g.Key, g.Site},
	}, nil)
}

// Use records that an instance was called, by another one or by code that is none (0), in a scope, and how long it took.
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

// DisposeState is how far a disposal has come.
type DisposeState string

// The states a recorder here can write.
const (
	Begun DisposeState = "begun"
	Done  DisposeState = "done"

	// Returned ends the lease of a pooled instance, which goes on living in its pool.
	Returned DisposeState = "returned"
)

// Dispose records that an instance is being or was disposed, by "container", "owner" or "code"; failure, if not nil, makes
// it a failed one. Of a failure its type is recorded and never its text, which may hold anything.
func (r *Recorder) Dispose(inst InstID, scope ScopeID, by string, state DisposeState, took time.Duration, failure error) {
	r.DisposeAt(time.Time{}, inst, scope, by, state, took, failure)
}

// DisposeAt is Dispose for a disposal that is reported later than it happened. The zero time is now.
func (r *Recorder) DisposeAt(when time.Time, inst InstID, scope ScopeID, by string, state DisposeState, took time.Duration, failure error) {
	if r == nil || inst == 0 {
		return
	}
	if state == Done && failure == nil {
		r.objects.disposed(inst)
		r.gone(inst, true)
	}
	s := r.session.Load()
	if s == nil || !s.knows(inst) {
		return
	}
	if !r.in(s, scope) {
		scope = 0 // of something that outlives the scope: it ends all the same
	}
	n := note{kind: event.Dispose, inst: inst, scope: scope, ns: took.Nanoseconds(), when: when, text: [5]string{by, string(state), ""}}
	if failure != nil {
		n.text[1], n.text[2] = "failed", classOf(failure)
	}
	r.add(s, &n, nil)
}

// Forget records that an instance is gone without having been disposed, by "runtime" (collected) or "container".
func (r *Recorder) Forget(inst InstID, by string) {
	if r == nil || inst == 0 {
		return
	}
	r.gone(inst, false)
	if s := r.session.Load(); s != nil && s.knows(inst) {
		r.add(s, &note{kind: event.Forget, inst: inst, text: [5]string{by}}, nil)
	}
}

// Failure is something that could not be built; see fail in docs/trace-format.md.
type Failure struct {
	Service  string
	Key      string
	Why      string // "missing", "cycle", "ambiguous", "constructors", "lifetime", "no-scope", "closed", "error"
	Scope    ScopeID
	Path     []string // outermost first
	For      RegID    // the registration that was being built and asked for it; 0: none known
	Entry    string   // the entry point that asked, or ""
	At       string   // the place in the source that asked
	Err      error    // what failed: its type is recorded and never its text, which may hold anything
	Message  string   // a text that holds no data of the application
	Optional bool
}

// Fail records that something could not be built.
func (r *Recorder) Fail(f Failure) {
	if r == nil {
		return
	}
	s := r.session.Load()
	if s == nil || !r.in(s, f.Scope) {
		return
	}
	if f.Why == "missing" {
		f.Service, f.Key = r.unregistered.name(f.Service, f.Key)
	}
	e := &event.Event{
		Kind: event.Fail, Service: f.Service, Why: f.Why, Scope: f.Scope,
		Has: event.Of(event.FService, event.FWhy, event.FScope),
	}
	text(e, event.FMessage, &e.Message, f.Message)
	text(e, event.FEntry, &e.Entry, f.Entry)
	text(e, event.FAt, &e.At, f.At)
	if f.Err != nil {
		text(e, event.FError, &e.Error, classOf(f.Err))
	}
	if f.For != 0 {
		e.For = f.For
		e.Has.Set(event.FFor)
	}
	text(e, event.FKey, &e.Key, f.Key)
	flag(e, event.FOptional, &e.Optional, f.Optional)
	if len(f.Path) > 0 {
		e.Path = append(e.Path, f.Path...)
		e.Has.Set(event.FPath)
	}
	r.add(s, &note{ev: e}, nil)
}
