package uberfx

import (
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"go.uber.org/fx/fxevent"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/internal/adapt"
)

// app is what is known of one application.
type app struct {
	rec       *record.Recorder
	container record.ContainerID
	root      record.ScopeID
	graph     map[int][]need

	mu       sync.Mutex
	provided []*provided        // in the order of fx's graph
	layers   []*provided        // decorators and replacements
	outer    map[string]string  // module → the one around it, "" for the application
	base     map[key][]*result  // what answers, decorators apart
	layered  map[modKey]*result // what a module's decorator made of it
	steps    map[string][]step  // invocations and hooks that are running
	disposed map[record.InstID]bool
	chain    map[modKey]record.RegID // the outermost registration so far
}

type modKey struct {
	module string
	key    key
}

// provided is a constructor, a value, a decorator or a replacement.
type provided struct {
	name    string // fx's, of the function
	kind    string // as in fx's run event
	module  string
	results []*result
	ran     bool
	index   int
}

// result is one thing that it provides.
type result struct {
	key
	reg   record.RegID
	more  record.Registration
	inst  record.InstID
	began time.Time // its construction, until somebody who needs it takes that on
	skip  bool      // it is of a basic type
}

// step is something that runs for a while.
type step struct {
	scope record.ScopeID
	leave func()
}

// apps are the applications of recorders, for Seen.
var apps = struct {
	sync.Mutex
	of map[*record.Recorder][]*app
}{of: map[*record.Recorder][]*app{}}

func newApp(rec *record.Recorder) *app {
	a := &app{
		rec: rec, outer: map[string]string{}, base: map[key][]*result{}, layered: map[modKey]*result{}, steps: map[string][]step{},
		disposed: map[record.InstID]bool{}, chain: map[modKey]record.RegID{},
	}
	a.container, a.root = rec.Root(record.ContainerSetup{Name: "fx", Duplicates: "error"})
	apps.Lock()
	defer apps.Unlock()
	apps.of[rec] = append(apps.of[rec], a)
	return a
}

// forget lets go of an application that has stopped.
func (a *app) forget() {
	apps.Lock()
	defer apps.Unlock()
	left := slices.DeleteFunc(apps.of[a.rec], func(other *app) bool { return other == a })
	if len(left) == 0 {
		delete(apps.of, a.rec)
	} else {
		apps.of[a.rec] = left
	}
}

// seen is what fx lets be seen: it shows no value, so that code may close it without anybody knowing.
var seen = []string{"with", "shared", "use", "dispose", "closes", "fail"}

func (a *app) event(e fxevent.Event) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch e := e.(type) {
	case *fxevent.Provided:
		a.provide(&provided{name: e.ConstructorName, kind: "provide", module: e.ModuleName}, e.OutputTypeNames, e.StackTrace, e.ModuleTrace, e.Err)
	case *fxevent.Supplied:
		a.provide(&provided{name: "stub(" + e.TypeName + ")", kind: "supply", module: e.ModuleName}, []string{e.TypeName}, e.StackTrace, e.ModuleTrace, e.Err)
	case *fxevent.Decorated:
		a.layer(&provided{name: e.DecoratorName, kind: "decorate", module: e.ModuleName}, e.OutputTypeNames, e.StackTrace, e.ModuleTrace)
	case *fxevent.Replaced:
		for _, of := range e.OutputTypeNames {
			a.layer(&provided{name: "stub(" + of + ")", kind: "replace", module: e.ModuleName}, []string{of}, e.StackTrace, e.ModuleTrace)
		}
	case *fxevent.Run:
		a.run(e)
	case *fxevent.Invoking:
		a.begin("invoke", e.FunctionName)
	case *fxevent.Invoked:
		a.end("invoke", e.FunctionName)
		if e.Err != nil {
			a.failed(e.Err)
		}
	case *fxevent.OnStartExecuting:
		a.begin("start hook", e.FunctionName)
	case *fxevent.OnStartExecuted:
		if e.Err != nil {
			a.hookFailed(e.CallerName, "its start hook failed")
		}
		a.end("start hook", e.FunctionName)
	case *fxevent.OnStopExecuting:
		a.begin("stop hook", e.FunctionName)
		a.dispose(e.CallerName, record.Begun, 0, nil)
	case *fxevent.OnStopExecuted:
		a.dispose(e.CallerName, record.Done, e.Runtime, e.Err)
		a.end("stop hook", e.FunctionName)
	case *fxevent.Stopped:
		a.rec.CloseScope(a.root)
		a.forget()
	}
}

// place is where a line of a stack stands: "main.wire (/src/harbour/wiring.go:41)" is "wiring.go:41".
var place = regexp.MustCompile(`\(([^()]*:\d+)\)`)

func placeOf(stack []string) string {
	for _, line := range stack {
		if m := place.FindStringSubmatch(line); m != nil {
			return filepath.Base(m[1])
		}
	}
	return ""
}

// named ends an element of fx's trace of modules: "main.main (/src/harbour/main.go:16) (tides)".
var named = regexp.MustCompile(`:\d+\) \((.*)\)$`)

// within notes which modules lie around one.
func (a *app) within(module string, trace []string) {
	inner := ""
	for _, element := range trace {
		m := named.FindStringSubmatch(element)
		if m == nil {
			continue
		}
		if inner != "" && inner != m[1] {
			a.outer[inner] = m[1]
		}
		inner = m[1]
	}
	if inner != "" && a.outer[inner] == "" {
		a.outer[inner] = ""
	}
	if _, ok := a.outer[module]; !ok && module != "" {
		a.outer[module] = ""
	}
}

// provide tells of what a constructor or a value provides.
func (a *app) provide(p *provided, outputs, stack, trace []string, err error) {
	a.within(p.module, trace)
	p.index = len(a.provided)
	a.provided = append(a.provided, p)
	if err != nil {
		return
	}
	for _, text := range outputs {
		r := &result{key: keyOf(text)}
		p.results = append(p.results, r)
		if r.skip = basic.MatchString(r.of); r.skip {
			continue
		}
		r.more = record.Registration{
			Service: service(r.of), Key: r.name + r.group, Lifetime: "singleton", Container: a.container, At: placeOf(stack), Module: p.module,
			Disposer: "code", Sees: seen, Internal: strings.HasPrefix(r.of, "fx.") || strings.HasPrefix(r.of, "fxevent."),
		}
		if p.kind == "supply" {
			r.more.Lifetime = "external"
		}
		if same := a.base[r.key]; r.group == "" && len(same) > 0 {
			// fx has no two of a name in one place, so that this is another type, or another module's own.
			r.more.Service += " of " + constructorPackage(p.name)
		}
		r.reg = a.rec.Register(r.more)
		a.base[r.key] = append(a.base[r.key], r)
		a.chain[modKey{"", r.key}] = r.reg
	}
}

// constructorPackage returns the package of a function that fx names: "example.org/harbour/tides.New()" is
// "example.org/harbour/tides".
func constructorPackage(name string) string {
	if _, inner, ok := strings.Cut(name, "("); ok && strings.HasPrefix(name, "fx.Annotate(") {
		name = inner
	}
	dir, file := "", name
	if at := strings.LastIndex(name, "/"); at >= 0 {
		dir, file = name[:at+1], name[at+1:]
	}
	pkg, _, _ := strings.Cut(file, ".")
	return dir + pkg
}

// layer tells of a decorator or a replacement.
func (a *app) layer(p *provided, outputs, stack, trace []string) {
	a.within(p.module, trace)
	a.layers = append(a.layers, p)
	for _, text := range outputs {
		r := &result{key: keyOf(text)}
		p.results = append(p.results, r)
		if r.skip = basic.MatchString(r.of); r.skip || strings.HasPrefix(r.of, "fxevent.") {
			r.skip = true
			continue
		}
		r.more = record.Registration{
			Service: service(r.of), Key: r.name + r.group, Lifetime: "singleton", Container: a.container, At: placeOf(stack), Module: p.module,
			Disposer: "code", Sees: seen, In: record.Part{Module: p.module}, Wraps: a.wrapped(p.module, r.key),
		}
		if p.kind == "replace" {
			r.more.Lifetime, r.more.Wraps = "external", 0
		}
		r.reg = a.rec.Register(r.more)
		a.chain[modKey{p.module, r.key}] = r.reg
	}
}

// wrapped returns the registration that a module's decorator of a key is put around.
func (a *app) wrapped(module string, k key) record.RegID {
	for {
		if reg := a.chain[modKey{module, k}]; reg != 0 {
			return reg
		}
		if module == "" {
			return 0
		}
		module = a.outer[module]
	}
}

// answer returns what a module's need of a key is answered with, nil if that is not known.
func (a *app) answer(module string, k key, except *provided) *result {
	for at := module; ; at = a.outer[at] {
		if r := a.layered[modKey{at, k}]; r != nil && (except == nil || !except.has(r)) {
			return r
		}
		if at == "" {
			break
		}
	}
	if list := a.base[k]; len(list) == 1 {
		return list[0]
	}
	return nil
}

func (p *provided) has(r *result) bool {
	for _, own := range p.results {
		if own == r {
			return true
		}
	}
	return false
}

// run tells of what a constructor or decorator made.
func (a *app) run(e *fxevent.Run) {
	p := a.ran(e)
	if p == nil {
		return
	}
	p.ran = true
	if e.Err != nil {
		f := record.Failure{Service: e.Name, Why: "error", Scope: a.here(), Err: e.Err}
		for _, r := range p.results {
			if !r.skip {
				f.Service, f.Key = r.more.Service, r.more.Key
				break
			}
		}
		a.rec.Fail(f)
		p.ran = false // fx tries again when it is asked for again
		return
	}
	end := time.Now()
	with, began := a.given(p, end.Add(-e.Runtime))
	for n, r := range p.results {
		if r.skip {
			continue
		}
		m := record.Making{Reg: r.reg, Scope: a.here(), With: with, By: "factory", Module: p.module, When: end}
		switch {
		case e.Kind == "supply" || e.Kind == "replace":
			m.By = "external"
		case n == 0:
			m.Took, r.began = end.Sub(began), began // several results are made together
		}
		r.inst = a.rec.Make(m)
		if e.Kind == "decorate" || e.Kind == "replace" {
			a.layered[modKey{p.module, r.key}] = r
		}
	}
}

// ran returns whose run it was.
func (a *app) ran(e *fxevent.Run) *provided {
	list := a.provided
	if e.Kind == "decorate" || e.Kind == "replace" {
		list = a.layers
	}
	for _, p := range list {
		// Several may have one name, such as constructors that are made in a loop: they run in the order in which they are needed,
		// and which is which cannot be told.
		if !p.ran && p.kind == e.Kind && p.name == e.Name && p.module == e.ModuleName {
			return p
		}
	}
	return nil
}

// given lists what a constructor that began at a time was given, and returns when its construction began with that of what was
// built for it, and for nobody before: fx builds what is needed first.
func (a *app) given(p *provided, at time.Time) (with []event.With, began time.Time) {
	began = at
	claim := func(r *result) {
		if !r.began.IsZero() && r.began.Before(began) {
			began = r.began
		}
		r.began = time.Time{}
	}

	if p.kind == "decorate" {
		for _, r := range p.results {
			if inner := a.answer(p.module, r.key, p); inner != nil && inner.inst != 0 {
				with = append(with, event.With{Inst: inner.inst, Service: inner.more.Service, Key: inner.more.Key, HasKey: inner.more.Key != ""})
				claim(inner)
			}
		}
		return with, began
	}
	if p.kind != "provide" {
		return nil, began
	}
	for _, n := range a.graph[p.index] {
		if basic.MatchString(n.of) {
			continue
		}
		w := event.With{Service: service(n.of), Key: n.name + n.group, HasKey: n.name+n.group != ""}
		if n.group != "" {
			for _, member := range a.base[n.key] {
				if member.inst != 0 {
					w.Inst = member.inst
					with = append(with, w)
					claim(member)
				}
			}
			continue
		}
		r := a.answer(p.module, n.key, nil)
		if twice(a.graph[p.index], n.key) {
			r = nil // of two packages of one name
		}
		switch {
		case r == nil && n.optional && len(a.base[n.key]) == 0:
			continue
		case r == nil || r.inst == 0:
			w.Unseen = true
		default:
			w.Inst = r.inst
			claim(r)
		}
		with = append(with, w)
	}
	return with, began
}

// twice tells whether a key stands twice in a list: of two types that fx names alike.
func twice(list []need, k key) bool {
	times := 0
	for _, n := range list {
		if n.key == k {
			times++
		}
	}
	return times > 1
}

// here returns the scope that the calling goroutine works in.
func (a *app) here() record.ScopeID {
	if scope, ok := a.rec.Here(); ok {
		return scope
	}
	return a.root
}

// maxSteps bounds how many of a name run at once.
const maxSteps = 100

func (a *app) begin(kind, name string) {
	k := kind + name
	if !a.rec.On() || len(a.steps[k]) >= maxSteps {
		return
	}
	scope := a.rec.Open(record.Scope{In: a.here(), Kind: kind, Name: name})
	a.steps[k] = append(a.steps[k], step{scope, a.rec.Enter(scope)})
}

func (a *app) end(kind, name string) {
	k := kind + name
	running := a.steps[k]
	if len(running) == 0 {
		return
	}
	last := running[len(running)-1]
	if a.steps[k] = running[:len(running)-1]; len(running) == 1 {
		delete(a.steps, k)
	}
	last.leave()
	a.rec.CloseScope(last.scope)
}

// by returns what the function that appended a hook constructs: fx names the function, and the constructor by it.
func (a *app) by(caller string) *provided {
	var found *provided
	for _, p := range a.provided {
		if !p.ran || p.name != caller+"()" && !strings.HasPrefix(p.name, "fx.Annotate("+caller+"()") {
			continue
		}
		if found != nil {
			return nil // which of them cannot be told
		}
		found = p
	}
	return found
}

// dispose tells that a stop hook disposes, or has disposed, what its constructor made. A constructor's further hooks are steps and
// no second disposals.
func (a *app) dispose(caller string, state record.DisposeState, took time.Duration, err error) {
	p := a.by(caller)
	if p == nil {
		return
	}
	for _, r := range p.results {
		if r.skip || r.inst == 0 || a.disposed[r.inst] {
			continue
		}
		if !r.more.Disposable {
			r.more.Disposable = true
			a.rec.Again(r.reg, r.more)
		}
		a.rec.Dispose(r.inst, a.here(), "code", state, took, err)
		a.disposed[r.inst] = state == record.Done
	}
}

func (a *app) hookFailed(caller, what string) {
	if p := a.by(caller); p != nil {
		for _, r := range p.results {
			if !r.skip {
				a.rec.Fail(record.Failure{Service: r.more.Service, Key: r.more.Key, Why: "error", Scope: a.here(), Message: what})
				return
			}
		}
	}
}

// missing is how fx's error names what nobody provides: "missing type: *main.Tides (did you mean ...)" or "missing types: A; B".
var missing = regexp.MustCompile(`missing types?: ([^()]*)`)

// failed tells what an invoked function lacked. What a constructor failed with has been told when it ran. Only names of types
// are taken from the error, which may hold anything.
func (a *app) failed(err error) {
	m := missing.FindStringSubmatch(err.Error())
	if m == nil {
		return
	}
	var path []string
	for _, step := range building.FindAllStringSubmatch(err.Error(), maxPath) {
		path = append(path, service(keyOf(step[1]).of))
	}
	for _, text := range strings.Split(m[1], ";") {
		k := keyOf(strings.TrimSpace(text))
		a.rec.Fail(record.Failure{
			Service: service(k.of), Key: k.name + k.group, Why: "missing", Scope: a.here(), Path: append(path[:len(path):len(path)], service(k.of)),
		})
	}
}

// building is a step of the way to what is missing.
var building = regexp.MustCompile(`failed to build (\S+?(?:\[[^\]]*\])?):`)

// maxPath bounds what is told of the way.
const maxPath = 64

// service is a type's name without its asterisks.
func service(of string) string { return strings.TrimLeft(of, "*") }

// know notes the value of a type, where one instance of it is known.
func (a *app) know(t reflect.Type, v any) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r := a.answer("", key{of: t.String()}, nil); r != nil && r.inst != 0 {
		a.rec.Know(v, r.inst)
		if r.more.Impl == "" {
			var names adapt.Names
			r.more.Impl = names.Type(reflect.TypeOf(v))
			a.rec.Again(r.reg, r.more)
		}
	}
}
