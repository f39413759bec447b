package samberdo

import (
	"context"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"weak"

	"github.com/samber/do/v2"

	"keenlantern.example/record"
	"keenlantern.example/record/internal/adapt"
)

// box is what is known of one container.
type box struct {
	rec       *record.Recorder
	id        string // of the root scope in the container
	container record.ContainerID
	names     *adapt.Names

	running atomic.Int64 // invocations that are being followed

	mu     sync.RWMutex
	root   *scope
	ended  bool              // the root has been shut down
	scopes map[string]*scope // that are open, the root apart, by the container's id
	kept   map[string]*scope // that are not recorded, with what something that outlives them keeps
	regs   map[regKey]*registered
	said   map[regKey]*about      // of what is about to be registered, by the container's id of the scope
	taken  map[record.ScopeID]int // scopes of the recorder's that a scope of the container's is, and how many are

	stacks [32]stacks
}

// regKey identifies registrations. One stands for all scopes of a kind that it is made on.
type regKey struct{ name, kind string }

// registered is a registration as it was recorded.
type registered struct {
	id   record.RegID
	how  do.ServiceType
	more record.Registration
}

// scope is one scope of the container that is open.
type scope struct {
	id       record.ScopeID
	own      bool // opened here, and not by record's Handler or Run
	kind     string
	outer    *scope
	services map[string]*service
	left     int               // services that are not shut down
	inner    int               // open scopes that it lies around
	kept     *record.KeptScope // where it is not recorded
}

// service is a registration on one scope.
type service struct {
	*registered
	inst    record.InstID // that the scope keeps
	made    bool
	dispose bool      // the container has a way to dispose inst
	began   time.Time // its disposal
	asking  []*frame  // the requesters while it is not built: one of them builds it, the others wait
	by      *frame    // who of these has built it
}

// Record has rec record a container, from now on. Scopes are recorded that are made after it.
func Record(rec *record.Recorder, root *do.RootScope) {
	if rec == nil {
		return
	}
	if _, recorded := boxes.Load(boxKey{weak.Make(root), rec}); recorded {
		return
	}
	rec.Follow()
	h := &hooks{rec: rec, root: root}
	h.first = h.box(root)
	for _, d := range root.ListProvidedServices() {
		h.first.registered(nil, root, d.Service)
	}
	root.AddAfterRegistrationHook(h.registered)
	root.AddBeforeInvocationHook(h.invoking)
	root.AddAfterInvocationHook(h.invoked)
	root.AddBeforeShutdownHook(h.disposing)
	root.AddAfterShutdownHook(h.disposed)
}

// New makes a container that is recorded by rec, as do.NewWithOpts does without.
func New(rec *record.Recorder, opts *do.InjectorOpts, packages ...func(do.Injector)) *do.RootScope {
	if rec == nil {
		return do.NewWithOpts(opts, packages...)
	}
	root := do.NewWithOpts(opts)
	Record(rec, root)
	for _, p := range packages {
		p(root)
	}
	return root
}

// hooks are a container's. Its clones have them too.
type hooks struct {
	rec   *record.Recorder
	root  *do.RootScope
	first *box // of root
}

// boxes are found by their containers, which they do not keep alive, and their recorders. Without a recorder, a container leads to the box
// of the first: what an application says more is for that one.
var boxes sync.Map // boxKey → *box

type boxKey struct {
	root weak.Pointer[do.RootScope]
	rec  *record.Recorder
}

// of returns the box of the container that i belongs to, nil if that is not recorded.
func of(i do.Injector) *box {
	if i == nil {
		return nil
	}
	found, _ := boxes.Load(boxKey{root: weak.Make(i.RootScope())})
	b, _ := found.(*box)
	return b
}

// box returns the box of a container, a new one for a clone.
func (h *hooks) box(root *do.RootScope) *box {
	if root == h.root && h.first != nil {
		return h.first
	}
	key := boxKey{weak.Make(root), h.rec}
	if found, ok := boxes.Load(key); ok {
		return found.(*box)
	}
	b := &box{
		rec: h.rec, id: root.ID(), names: &adapt.Names{},
		scopes: map[string]*scope{}, kept: map[string]*scope{}, regs: map[regKey]*registered{}, said: map[regKey]*about{}, taken: map[record.ScopeID]int{},
	}
	found, again := boxes.LoadOrStore(key, b)
	if again {
		return found.(*box)
	}
	container, id := h.rec.Root(record.ContainerSetup{Name: "do"})
	b.mu.Lock()
	b.container = container
	b.root = newScope(id, "", nil)
	b.mu.Unlock()
	first := boxKey{root: key.root}
	boxes.LoadOrStore(first, b)
	runtime.AddCleanup(root, func(key boxKey) {
		boxes.Delete(key)
		boxes.Delete(boxKey{root: key.root})
	}, key)
	return b
}

func newScope(id record.ScopeID, kind string, outer *scope) *scope {
	s := &scope{id: id, kind: kind, outer: outer}
	if id < record.Unrecorded {
		s.services = map[string]*service{}
	}
	return s
}

// Open makes a child scope of in, and records that work of this kind and name runs in it; the work is what ctx carries, where
// record.Handler or Run opened a scope for it that no other scope of the container is yet. It ends when it is shut down.
func Open(ctx context.Context, in do.Injector, kind, name string, packages ...func(do.Injector)) (context.Context, *do.Scope) {
	child := in.Scope(kind + " " + strconv.FormatUint(opened.Add(1), 10))
	if b := of(in); b != nil && b.rec.On() {
		ctx = b.enter(ctx, in, child, kind, name)
	}
	for _, p := range packages {
		p(child)
	}
	return ctx, child
}

// opened counts scopes: the container wants each name to be another.
var opened atomic.Uint64

// enter makes the scope known, in a new scope of the recorder's or in ctx's.
func (b *box) enter(ctx context.Context, in do.Injector, child *do.Scope, kind, name string) context.Context {
	b.mu.Lock()
	defer b.mu.Unlock()
	outer := b.within(in)
	id, own := record.ScopeOf(ctx), false
	if id == 0 || b.taken[id] > 0 || outer != b.root {
		own = true
		id = b.open(id, id != 0, outer, record.Scope{Kind: kind, Name: name})
		ctx = b.rec.In(ctx, id)
	}
	b.add(child.ID(), newScope(id, kind, outer), own)
	return ctx
}

// open opens a scope for work in one of the recorder's, if there is any: in that where the scope around is the root, and in the scope
// around otherwise, to which the work then belongs.
func (b *box) open(work record.ScopeID, there bool, outer *scope, g record.Scope) record.ScopeID {
	g.In = outer.id
	if there && outer == b.root {
		g.In = work
	}
	id := b.rec.Open(g)
	if there && outer != b.root && work != outer.id {
		b.rec.Join(work, id)
	}
	return id
}

// add notes an open scope. The caller holds mu.
func (b *box) add(id string, s *scope, own bool) {
	s.own = own
	b.scopes[id] = s
	b.taken[s.id]++
	s.outer.inner++
}

// within returns the open scope that is or lies around an injector, the root if none is known. The caller holds mu.
func (b *box) within(in do.Injector) *scope {
	if in.ID() == b.id {
		return b.root
	}
	if s := b.scopes[in.ID()]; s != nil {
		return s
	}
	for _, around := range in.Ancestors() {
		if s := b.scopes[around.ID()]; s != nil {
			return s
		}
	}
	return b.root
}

// scope returns what is known of a scope on which something is registered, which becomes known with that while anything is
// recorded. The caller holds mu.
func (b *box) scope(s *do.Scope) *scope {
	if s.ID() == b.id {
		return b.root
	}
	if known := b.scopes[s.ID()]; known != nil || !b.rec.On() {
		return known
	}
	outer := b.within(s)
	kind := kindOf(s.Name())
	id, here := b.rec.Here()
	// The child of a scope lies in that one, whatever work makes it.
	own := !here || b.taken[id] > 0 || outer != b.root
	if own {
		id = b.open(id, here, outer, record.Scope{Kind: kind})
	}
	known := newScope(id, kind, outer)
	b.add(s.ID(), known, own)
	return known
}

// kindOf returns the word that a scope's name begins with: the container wants each name to be another, so that applications
// put numbers into them.
func kindOf(name string) string {
	end := strings.IndexFunc(name, func(c rune) bool { return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') })
	if end < 0 {
		end = len(name)
	}
	if end == 0 || end > 32 {
		return "scope"
	}
	return name[:end]
}

// Close shuts an injector down, the container itself or a scope, and records it. What is still open inside it was left open: it is
// shut down with it, and not recorded as closed. A scope on which something is registered may be shut down by its own method as
// well, as may what is inside it.
func Close(ctx context.Context, i do.Injector) *do.ShutdownReport {
	b := of(i)
	if b != nil {
		b.leftOpen(i)
	}
	report := i.ShutdownWithContext(ctx)
	if b != nil {
		b.mu.Lock()
		defer b.mu.Unlock()
		if i.ID() == b.id {
			b.closed(b.id, b.root)
		} else if s := b.scopes[i.ID()]; s != nil {
			b.closed(i.ID(), s)
		}
	}
	return report
}

// leftOpen notes which scopes inside one that is about to be shut down are open.
func (b *box) leftOpen(i do.Injector) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.scopes[i.ID()]
	if i.ID() == b.id {
		s = b.root
	}
	if s == nil || s.inner == 0 {
		return
	}
	for _, inner := range b.scopes {
		for around := inner.outer; around != nil; around = around.outer {
			if around == s {
				inner.own = false
			}
		}
	}
}

// closed records that a scope has ended, once. The caller holds mu.
func (b *box) closed(id string, s *scope) {
	if s == b.root {
		if !b.ended {
			b.ended = true
			b.rec.CloseScope(s.id)
		}
		return
	}
	if b.scopes[id] != s {
		return
	}
	delete(b.scopes, id)
	s.outer.inner--
	if b.taken[s.id]--; b.taken[s.id] <= 0 {
		delete(b.taken, s.id)
	}
	if s.own {
		b.rec.CloseScope(s.id)
	}
}

// registered makes a service known that has been registered: on a scope, or on the root where that is nil.
func (b *box) registered(on *do.Scope, i do.Injector, name string) {
	if on != nil && on.ID() != b.id && !b.rec.On() {
		return // its scope is left out
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.root
	if on != nil {
		if s = b.scope(on); s == nil {
			return
		}
	}
	if s.id >= record.Unrecorded {
		s.left++ // that is all that is needed to know its end
		return
	}
	said := b.said[regKey{name, i.ID()}]
	if s.services[name] == nil {
		s.left++
	}
	s.services[name] = &service{registered: b.registration(s, i, name, said, on != nil)}
}

// registration returns what is known of a registration on a scope, which is recorded if it is new. On the root, each is: it
// takes another one's place. The caller holds mu.
func (b *box) registration(s *scope, i do.Injector, name string, said *about, placed bool) *registered {
	k := regKey{name, s.kind}
	if known := b.regs[k]; known != nil && s != b.root {
		return known
	}
	// What is just being registered depends on nothing yet, so that explaining it is cheap.
	explained, _ := do.ExplainNamedService(i, name)
	g := record.Registration{Service: b.names.Of(name), Container: b.container, Local: s != b.root, Mechanism: "interface"}
	if placed {
		g.At = adapt.Caller("github.com/samber/do/v2", "keenlantern.example/record/samberdo")
	}
	switch explained.ServiceType {
	case do.ServiceTypeLazy:
		g.Lifetime, g.Disposer = "scoped", "container"
		if s == b.root {
			g.Lifetime = "singleton"
		}
	case do.ServiceTypeTransient:
		g.Lifetime, g.Disposer = "transient", "nobody"
	case do.ServiceTypeEager:
		g.Lifetime, g.Disposer = "external", "container"
	}
	if said != nil {
		said.put(b, s, &g)
	}
	if old := s.services[name]; s == b.root && old != nil && !old.made {
		// It is overridden before it was built, so that it never was more than what stands here now.
		known := &registered{old.id, explained.ServiceType, g}
		b.rec.Again(known.id, g)
		b.regs[k] = known
		return known
	}
	known := &registered{id: b.rec.Register(g), how: explained.ServiceType, more: g}
	b.regs[k] = known
	return known
}

// answering returns the registration that answers for a name in a scope, 0 if none is known. The caller holds mu.
func (b *box) answering(s *scope, name string) record.RegID {
	for ; s != nil; s = s.outer {
		if sv := s.services[name]; sv != nil {
			return sv.id
		}
	}
	return 0
}

// disposable reports whether the container has a way to dispose v.
func disposable(v any) bool {
	switch v.(type) {
	case do.Shutdowner, do.ShutdownerWithError, do.ShutdownerWithContext, do.ShutdownerWithContextAndError:
		return true
	}
	return false
}
