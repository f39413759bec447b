package samberdo

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// box is what is known of one container. It is found by its root, since that is what a provider can get at.
type box struct {
	rec       *record.Recorder
	container record.ContainerID
	names     atomic.Uint64 // the container wants each child scope's name to be another

	mu     sync.Mutex
	regs   map[regKey]record.RegID
	scopes map[string]*scope // by the container's id of the scope

	frames sync.Map // do.Injector of a running provider → *frame
}

// scope is one scope of the container that is open.
type scope struct {
	id     record.ScopeID
	kind   string
	asked  map[string]record.RegID // what it registers, by the container's name
	built  map[string]record.InstID
	begun  map[string]time.Time     // disposals
	kept   map[string]record.InstID // what it keeps, whether or not it is disposed
	told   string                   // the words of the failure that was told last
	parent *scope
}

// regKey tells registrations apart: one line stands for all scopes that a package is registered on.
type regKey struct{ name, kind, at string }

// frame is a provider that is running.
type frame struct {
	mu   sync.Mutex
	with []event.With
}

var boxes sync.Map // *do.RootScope → *box

// New makes a container that is recorded by rec. Hooks in opts are kept. The caller ends it with Close.
func New(rec *record.Recorder, opts *do.InjectorOpts) *do.RootScope {
	b := &box{rec: rec, regs: map[regKey]record.RegID{}, scopes: map[string]*scope{}}
	all := do.InjectorOpts{}
	if opts != nil {
		all = *opts
	}
	all.HookBeforeShutdown = append(all.HookBeforeShutdown[:len(all.HookBeforeShutdown):len(all.HookBeforeShutdown)], b.disposing)
	all.HookAfterShutdown = append([]func(*do.Scope, string, error){b.disposed}, all.HookAfterShutdown...)
	root := do.NewWithOpts(&all)
	if rec != nil {
		b.container = rec.Container("root", 0, 0)
		b.scopes[root.ID()] = newScope(0, "root", nil)
		boxes.Store(root, b)
	}
	return root
}

// Close shuts the container down, says so in the recording, and forgets it.
func Close(ctx context.Context, root *do.RootScope) *do.ShutdownReport {
	report := root.ShutdownWithContext(ctx)
	if b := of(root); b != nil {
		b.rec.CloseScope(0)
		boxes.Delete(root)
	}
	return report
}

func newScope(id record.ScopeID, kind string, parent *scope) *scope {
	return &scope{
		id: id, kind: kind, parent: parent,
		asked: map[string]record.RegID{}, built: map[string]record.InstID{}, begun: map[string]time.Time{}, kept: map[string]record.InstID{},
	}
}

// of returns the box of the container that i belongs to, nil if that is not recorded.
func of(i do.Injector) *box {
	b, _ := boxes.Load(i.RootScope())
	found, _ := b.(*box)
	return found
}

// scope returns the open scope that i is, nil if it is not known.
func (b *box) scope(id string) *scope {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.scopes[id]
}

// Open makes a child scope of in with what packages register on it. The scope that ctx carries, if it was opened by
// record.Handler, is the one that is recorded; otherwise one of this kind and name is. The returned function shuts the
// scope down and says so.
func Open(ctx context.Context, in do.Injector, kind, name string, packages ...func(do.Injector)) (context.Context, *do.Scope, func(context.Context) *do.ShutdownReport) {
	b := of(in)
	if b == nil {
		child := in.Scope(fmt.Sprintf("%s %d", kind, unrecorded.Add(1)), packages...)
		return ctx, child, child.ShutdownWithContext
	}
	id, own := record.ScopeOf(ctx), false
	around := b.scope(in.ID())
	if id == 0 || around != nil && around.id == id {
		own = true
		id = b.rec.Open(record.Scope{In: id, Kind: kind, Name: name})
		ctx = b.rec.In(ctx, id)
	}
	child := in.Scope(fmt.Sprintf("%s %d", kind, b.names.Add(1)))
	b.mu.Lock()
	b.scopes[child.ID()] = newScope(id, kind, around)
	b.mu.Unlock()
	for _, p := range packages {
		p(child)
	}
	return ctx, child, func(ctx context.Context) *do.ShutdownReport {
		report := child.ShutdownWithContext(ctx)
		b.mu.Lock()
		delete(b.scopes, child.ID())
		b.mu.Unlock()
		if own {
			b.rec.CloseScope(id)
		}
		return report
	}
}

var unrecorded atomic.Uint64

// disposing and disposed are the container's hooks around the shutdown of one service.
func (b *box) disposing(in *do.Scope, name string) {
	b.mu.Lock()
	s := b.scopes[in.ID()]
	var inst record.InstID
	if s != nil {
		if inst = s.built[name]; inst != 0 {
			s.begun[name] = time.Now()
		}
	}
	b.mu.Unlock()
	if inst != 0 {
		b.rec.Dispose(inst, s.id, "container", record.Begun, 0, nil)
	}
}

func (b *box) disposed(in *do.Scope, name string, err error) {
	b.mu.Lock()
	s := b.scopes[in.ID()]
	var inst record.InstID
	var began time.Time
	if s != nil {
		inst, began = s.built[name], s.begun[name]
		delete(s.built, name)
		delete(s.begun, name)
	}
	b.mu.Unlock()
	if inst != 0 {
		b.rec.Dispose(inst, s.id, "container", record.Done, time.Since(began), err)
	}
}
