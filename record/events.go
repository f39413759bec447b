package record

import (
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
	Local      bool // registered on each scope, not on the container
	Internal   bool
	Disposable bool
	Disposer   string // "container", "code", "nobody"; "": the container's default
	At         string // the place in the source, "wiring.go:41"
	Module     string
}

// Container says that there is a container, and what its root scope is. in is 0 for one without a parent.
func (r *Recorder) Container(name string, root ScopeID, in ContainerID) ContainerID {
	if r == nil {
		return 0
	}
	id := ContainerID(r.containers.Add(1))
	r.write(func(e *event.Event) {
		e.Kind = event.Container
		e.Container, e.Scope = id, root
		e.Has = event.Of(event.FContainer, event.FScope)
		text(e, event.FName, &e.Name, name)
		if in != 0 {
			e.InCont = in
			e.Has.Set(event.FIn)
		}
	})
	return id
}

// Register says what is registered and returns the registration's id.
func (r *Recorder) Register(g Registration) RegID {
	if r == nil {
		return 0
	}
	id := RegID(r.regs.Add(1))
	r.write(func(e *event.Event) {
		e.Kind = event.Register
		e.Reg, e.Service = id, g.Service
		e.Has = event.Of(event.FReg, event.FService)
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
			e.Needs = append(e.Needs, g.Needs...)
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
		flag(e, event.FLocal, &e.Local, g.Local)
		flag(e, event.FInternal, &e.Internal, g.Internal)
		flag(e, event.FDisposable, &e.Disposable, g.Disposable)
	})
	return id
}

// flag sets a field that is left out when it is false.
func flag(e *event.Event, f event.Field, to *bool, value bool) {
	if value {
		*to = true
		e.Has.Set(f)
	}
}

// Scope is a stretch of work with its own instances.
type Scope struct {
	In    ScopeID // the scope around it; 0: the root
	Kind  string  // "request", "job", "message" …
	Name  string  // "GET /tides/{gauge}"
	Trace string  // a W3C trace-id
}

// Open says that a scope has begun and returns its id. It ends with CloseScope.
func (r *Recorder) Open(s Scope) ScopeID {
	if r == nil {
		return 0
	}
	id := ScopeID(r.scopes.Add(1))
	r.write(func(e *event.Event) {
		e.Kind = event.Open
		e.Scope = id
		e.Has = event.Of(event.FScope)
		if s.In != 0 {
			e.InScope = s.In
			e.Has.Set(event.FIn)
		}
		text(e, event.FKind, &e.ScopeKind, s.Kind)
		text(e, event.FName, &e.Name, s.Name)
		text(e, event.FTrace, &e.Trace, s.Trace)
	})
	return id
}

// CloseScope says that a scope has ended: after its instances were disposed, or without anything having done so.
func (r *Recorder) CloseScope(id ScopeID) {
	r.write(func(e *event.Event) {
		e.Kind = event.Close
		e.Scope = id
		e.Has = event.Of(event.FScope)
	})
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
	id := InstID(r.insts.Add(1))
	r.write(func(e *event.Event) {
		e.Kind = event.Make
		e.Inst, e.Scope, e.Reg, e.NS = id, m.Scope, m.Reg, m.Took.Nanoseconds()
		e.Has = event.Of(event.FInst, event.FScope)
		if m.Reg != 0 {
			e.Has.Set(event.FReg)
		}
		if m.Took > 0 {
			e.Has.Set(event.FNS)
		}
		if len(m.With) > 0 {
			e.With = append(e.With, m.With...)
			for n := range e.With {
				e.With[n].Slot = n
			}
			e.Has.Set(event.FWith)
		}
		text(e, event.FBy, &e.By, m.By)
		text(e, event.FImpl, &e.Impl, m.Impl)
		text(e, event.FModule, &e.Module, m.Module)
		flag(e, event.FDisposable, &e.Disposable, m.Disposable)
	})
	return id
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
	r.write(func(e *event.Event) {
		e.Kind = event.Give
		e.Inst, e.Scope = g.Inst, g.Scope
		e.Has = event.Of(event.FInst)
		if !g.NoScope {
			e.Has.Set(event.FScope)
		}
		if g.To != 0 {
			e.To = g.To
			e.Has.Set(event.FTo)
		}
		text(e, event.FEntry, &e.Entry, g.Entry)
		text(e, event.FService, &e.Service, g.Service)
		text(e, event.FKey, &e.Key, g.Key)
		text(e, event.FHow, &e.How, g.How)
		text(e, event.FSite, &e.Site, g.Site)
	})
}

// Use says that an instance was called, by another one or by code that is none (0), in a scope, and how long it took.
func (r *Recorder) Use(inst, by InstID, scope ScopeID, took time.Duration) {
	if r == nil || inst == 0 {
		return
	}
	r.write(func(e *event.Event) {
		e.Kind = event.Use
		e.Inst, e.Scope, e.NS = inst, scope, took.Nanoseconds()
		e.Has = event.Of(event.FInst, event.FScope, event.FNS)
		if by != 0 {
			e.User = by
			e.Has.Set(event.FBy)
		}
	})
}

// DisposeState says how far a disposal has come.
type DisposeState string

// The states a recorder here can write.
const (
	Begun DisposeState = "begun"
	Done  DisposeState = "done"
)

// Dispose says that an instance is being or was disposed, by "container", "owner" or "code"; failure, if not nil, makes
// it a failed one.
func (r *Recorder) Dispose(inst InstID, scope ScopeID, by string, state DisposeState, took time.Duration, failure error) {
	if r == nil || inst == 0 {
		return
	}
	if state == Done && failure == nil {
		r.objects.disposed(inst)
	}
	r.write(func(e *event.Event) {
		e.Kind = event.Dispose
		e.Inst, e.Scope, e.NS = inst, scope, took.Nanoseconds()
		e.Has = event.Of(event.FInst, event.FScope)
		if took > 0 {
			e.Has.Set(event.FNS)
		}
		text(e, event.FBy, &e.By, by)
		e.State = string(state)
		if failure != nil {
			e.State, e.Error = "failed", failure.Error()
			e.Has.Set(event.FError)
		}
		e.Has.Set(event.FState)
	})
}

// Forget says that an instance is gone without having been disposed, by "runtime" (collected) or "container".
func (r *Recorder) Forget(inst InstID, by string) {
	if r == nil || inst == 0 {
		return
	}
	r.write(func(e *event.Event) {
		e.Kind = event.Forget
		e.Inst, e.By = inst, by
		e.Has = event.Of(event.FInst, event.FBy)
	})
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
	r.write(func(e *event.Event) {
		e.Kind = event.Fail
		e.Service, e.Why, e.Scope, e.Message = f.Service, f.Why, f.Scope, f.Message
		e.Has = event.Of(event.FService, event.FWhy, event.FScope)
		text(e, event.FKey, &e.Key, f.Key)
		flag(e, event.FOptional, &e.Optional, f.Optional)
		if len(f.Path) > 0 {
			e.Path = append(e.Path, f.Path...)
			e.Has.Set(event.FPath)
		}
	})
}
