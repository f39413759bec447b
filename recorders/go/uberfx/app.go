package uberfx

import (
	"errors"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"go.uber.org/dig"
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
	names     adapt.Names

	mu       sync.Mutex
	graph    []node // fx's constructors, until the first one has run
	provided []*provided
	layers   []*provided                   // decorators and replacements
	outer    map[string]string             // module → the one around it, "" for the application
	modules  map[string]record.ContainerID // containers of modules that keep something to themselves
	base     map[key][]*result             // what answers everywhere, decorators apart
	private  map[modKey][]*result          // what answers in a module and those within it
	layered  map[modKey]*result            // what a module's decorator made of it
	steps    map[string][]step             // invocations and hooks that are running
	disposed map[record.InstID]bool
	chain    map[modKey]record.RegID // the outermost registration so far
	failures int                     // that were reported
	invoking int                     // failures when the running invocation began
	hooked   []*provided             // annotated constructors that may have hooks, in the order in which they ran
	stops    []*stop                 // annotated stop hooks, in the order in which they ran
}

// stop is an annotated stop hook, of which fx does not say whose it is.
type stop struct {
	began, ended time.Time
	took         time.Duration
	err          error
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
	private bool
	needs   []need
}

// result is one thing that it provides.
type result struct {
	key
	reg   record.RegID
	more  record.Registration
	inst  record.InstID
	began time.Time // its construction, until its consumer takes it over
	skip  bool      // it is of a basic type
}

// step is something that runs for a while.
type step struct {
	scope record.ScopeID
	leave func()
}

func newApp(rec *record.Recorder) *app {
	a := &app{
		rec: rec, outer: map[string]string{}, modules: map[string]record.ContainerID{}, base: map[key][]*result{}, private: map[modKey][]*result{},
		layered: map[modKey]*result{}, steps: map[string][]step{}, disposed: map[record.InstID]bool{}, chain: map[modKey]record.RegID{},
	}
	a.container, a.root = rec.Root(record.ContainerSetup{Name: "fx", Duplicates: "error"})
	return a
}

// seen is what fx lets be seen: it shows no value, so that code may close it unseen.
var seen = []string{"with", "shared", "use", "dispose", "closes", "fail"}

func (a *app) event(e fxevent.Event) {
	a.mu.Lock()
	defer a.mu.Unlock()
	switch e := e.(type) {
	case *fxevent.Provided:
		a.provide(&provided{name: e.ConstructorName, kind: "provide", module: e.ModuleName, private: e.Private}, e.OutputTypeNames, e.StackTrace, e.ModuleTrace, e.Err)
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
		a.invoking = a.failures
		a.begin("invoke", invoked(e.FunctionName))
	case *fxevent.Invoked:
		a.end("invoke", invoked(e.FunctionName))
		if e.Err != nil {
			a.failed(invoked(e.FunctionName), e.Err)
		}
	case *fxevent.OnStartExecuting:
		a.begin("start hook", a.hook(e.FunctionName, e.CallerName))
	case *fxevent.OnStartExecuted:
		if e.Err != nil {
			a.hookFailed(e.CallerName)
		}
		a.end("start hook", a.hook(e.FunctionName, e.CallerName))
	case *fxevent.OnStopExecuting:
		a.begin("stop hook", a.hook(e.FunctionName, e.CallerName))
		a.stopping(e.CallerName)
	case *fxevent.OnStopExecuted:
		a.stopped(e.CallerName, e.Runtime, e.Err)
		a.end("stop hook", a.hook(e.FunctionName, e.CallerName))
	case *fxevent.Stopped, *fxevent.RolledBack:
		a.annotatedStops()
		a.rec.CloseScope(a.root)
	}
}

// invoked returns the name of an invoked function. The function of fx.Populate is made by reflection and has no name.
func invoked(name string) string {
	if name == "reflect.makeFuncStub()" {
		return "fx.Populate"
	}
	return name
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

// provide reports what a constructor or a value provides.
func (a *app) provide(p *provided, outputs, stack, trace []string, err error) {
	a.within(p.module, trace)
	if err != nil {
		a.refused(p, outputs, stack, err)
		return
	}
	a.provided = append(a.provided, p)
	container := a.container
	if p.private {
		container = a.containerOf(p.module)
	}
	for _, text := range outputs {
		r := &result{key: keyOf(text)}
		p.results = append(p.results, r)
		if r.skip = basic.MatchString(r.of); r.skip {
			continue
		}
		r.more = record.Registration{
			Service: a.service(r.of), Key: r.name + r.group, Lifetime: "singleton", Container: container, At: placeOf(stack), Module: p.module,
			Disposer: "code", Sees: seen, Internal: strings.HasPrefix(r.of, "fx.") || strings.HasPrefix(r.of, "fxevent."),
		}
		if p.kind == "supply" {
			r.more.Lifetime = "external"
		}
		at := modKey{"", r.key}
		same := a.base[r.key]
		if p.private {
			at.module = p.module
			same = a.private[at]
		}
		if r.group == "" && len(same) > 0 {
			// fx has no two of a name in one place, so that this is another type of the same name.
			r.more.Service += " of " + constructorPackage(p.name)
		}
		r.reg = a.rec.Register(r.more)
		if a.chain[at] = r.reg; p.private {
			a.private[at] = append(same, r)
		} else {
			a.base[r.key] = append(same, r)
		}
	}
}

// refused reports a constructor that fx does not take: of a failure's text, only names of types are read.
func (a *app) refused(p *provided, outputs, stack []string, err error) {
	f := record.Failure{Service: p.name, Why: "error", Scope: a.root, At: placeOf(stack), Err: err}
	if len(outputs) > 0 {
		k := keyOf(outputs[0])
		f.Service, f.Key = a.service(k.of), k.name+k.group
	}
	a.fail(f)
}

// circle is a step of a circle in the container's error: "depends on func(*main.Gauge) *main.Tides provided by ...".
var circle = regexp.MustCompile(`func\(.*\) \(?([^\s,()]+).* provided by `)

// cyclic reports a circle that fx finds before anything is built, its logger included, so that there is no event; New asks for it.
func cyclic(rec *record.Recorder, err error) {
	if !strings.Contains(err.Error(), "cycle detected in dependency graph") {
		return
	}
	a := newApp(rec)
	f := record.Failure{Why: "cycle", Scope: a.root}
	for _, m := range circle.FindAllStringSubmatch(err.Error(), maxPath) {
		f.Path = append(f.Path, a.service(keyOf(m[1]).of))
	}
	if len(f.Path) > 0 {
		f.Service = f.Path[0]
		a.fail(f)
	}
	a.rec.CloseScope(a.root)
}

// fail reports a failure.
func (a *app) fail(f record.Failure) {
	a.failures++
	a.rec.Fail(f)
}

// maxModules bounds how many modules have their own containers.
const maxModules = 10_000

// containerOf returns the container of what a module keeps to itself. It shares the application's root scope.
func (a *app) containerOf(module string) record.ContainerID {
	if module == "" || a.modules[module] == 0 && len(a.modules) >= maxModules {
		return a.container
	}
	if a.modules[module] == 0 {
		a.modules[module] = a.rec.Container("module "+module, a.root, a.container)
	}
	return a.modules[module]
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

// layer records a decorator or a replacement.
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
			Service: a.service(r.of), Key: r.name + r.group, Lifetime: "singleton", Container: a.container, At: placeOf(stack), Module: p.module,
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
		if list := a.private[modKey{at, k}]; len(list) == 1 {
			return list[0]
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

// run reports what a constructor or decorator made.
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
		a.fail(f)
		p.ran = false // fx tries again when it is asked for again
		return
	}
	a.linked()
	if strings.HasPrefix(p.name, "fx.Annotate(") && slices.ContainsFunc(p.needs, func(n need) bool { return n.of == "fx.Lifecycle" }) {
		a.hooked = append(a.hooked, p)
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
		// and which is which is unknown.
		if !p.ran && p.kind == e.Kind && p.name == e.Name && p.module == e.ModuleName {
			return p
		}
	}
	return nil
}

// given lists what a constructor that began at a time was given, and returns when its construction began with that of what was
// built for it, and for no earlier one: fx builds what is needed first.
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
	for _, n := range p.needs {
		if basic.MatchString(n.of) {
			continue
		}
		w := event.With{Service: a.service(n.of), Key: n.name + n.group, HasKey: n.name+n.group != ""}
		if n.group != "" {
			w.All = true
			before := len(with)
			for _, member := range a.members(p.module, n.key) {
				if member.inst != 0 {
					w.Inst = member.inst
					with = append(with, w)
					claim(member)
				}
			}
			if len(with) == before {
				w.Absent = true
				with = append(with, w)
			}
			continue
		}
		r := a.answer(p.module, n.key, nil)
		if twice(p.needs, n.key) {
			r = nil // of two packages of one name
		}
		switch {
		case r == nil && n.optional && len(a.members(p.module, n.key)) == 0:
			w.Absent = true
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

// twice reports whether a key stands twice in a list: of two types that fx names alike.
func twice(list []need, k key) bool {
	times := 0
	for _, n := range list {
		if n.key == k {
			times++
		}
	}
	return times > 1
}

// members lists what of a key can be seen from a module, decorators apart.
func (a *app) members(module string, k key) []*result {
	list := a.base[k]
	for at := module; at != ""; at = a.outer[at] {
		list = append(list[:len(list):len(list)], a.private[modKey{at, k}]...)
	}
	return list
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
			return nil // which of them is unknown
		}
		found = p
	}
	return found
}

// annotated is how fx names the caller of a hook that is an annotation of a constructor.
const annotated = "go.uber.org/fx.(*lifecycleHookAnnotation)"

// owner returns the constructor that a hook belongs to, nil if that is unknown: fx names the callers of all annotated hooks alike.
func (a *app) owner(caller string) *provided {
	if !strings.HasPrefix(caller, annotated) {
		return a.by(caller)
	}
	if len(a.hooked) == 1 {
		return a.hooked[0]
	}
	return nil
}

// hook is how a hook is called.
func (a *app) hook(function, caller string) string {
	if !strings.HasPrefix(caller, annotated) {
		return function
	}
	if p := a.owner(caller); p != nil {
		return strings.TrimSuffix(strings.TrimPrefix(p.name, "fx.Annotate("), "()")
	}
	return "annotated hook"
}

func (a *app) stopping(caller string) {
	if strings.HasPrefix(caller, annotated) {
		if a.stops = append(a.stops, &stop{began: time.Now()}); len(a.hooked) != 1 {
			return
		}
	}
	a.dispose(a.owner(caller), time.Time{}, record.Begun, 0, nil)
}

func (a *app) stopped(caller string, took time.Duration, err error) {
	if n := len(a.stops); strings.HasPrefix(caller, annotated) && n > 0 {
		s := a.stops[n-1]
		s.ended, s.took, s.err = time.Now(), took, err
		if len(a.hooked) != 1 {
			return
		}
	}
	a.dispose(a.owner(caller), time.Time{}, record.Done, took, err)
}

// annotatedStops reports the disposals of several annotated stop hooks. fx takes one for each constructor at most, and runs them in the
// opposite order of the constructors: where there are as many as constructors that may have one, each is known.
func (a *app) annotatedStops() {
	if len(a.hooked) < 2 || len(a.hooked) != len(a.stops) {
		return
	}
	for n, s := range a.stops {
		p := a.hooked[len(a.hooked)-1-n]
		if a.dispose(p, s.began, record.Begun, 0, nil); !s.ended.IsZero() {
			a.dispose(p, s.ended, record.Done, s.took, s.err)
		}
	}
	a.stops = nil
}

// dispose reports that a stop hook disposes, or has disposed, what its constructor made. A constructor's further hooks are steps and
// no second disposals.
func (a *app) dispose(p *provided, when time.Time, state record.DisposeState, took time.Duration, err error) {
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
		a.rec.DisposeAt(when, r.inst, a.here(), "code", state, took, err)
		a.disposed[r.inst] = state == record.Done
	}
}

func (a *app) hookFailed(caller string) {
	f := record.Failure{Service: "annotated hook", Why: "error", Scope: a.here(), Message: "its start hook failed"}
	if p := a.owner(caller); p != nil {
		for _, r := range p.results {
			if !r.skip {
				f.Service, f.Key = r.more.Service, r.more.Key
				break
			}
		}
	} else if !strings.HasPrefix(caller, annotated) {
		f.Service = caller
	}
	a.fail(f)
}

// missing is how fx's error names missing types: "missing type: *main.Tides (did you mean ...)" or "missing types: A; B".
var missing = regexp.MustCompile(`missing types?: ([^()]*)`)

// failed reports what an invoked function lacked, or that it failed itself. What a constructor failed with was reported when it ran.
// Only names of types are taken from the error, which may hold anything.
func (a *app) failed(function string, err error) {
	m := missing.FindStringSubmatch(err.Error())
	if m == nil || !errors.As(err, new(dig.Error)) {
		if a.failures == a.invoking {
			a.fail(record.Failure{Service: function, Why: "error", Scope: a.here(), Entry: function, Err: err})
		}
		return
	}
	var path []string
	var asker key
	for _, step := range building.FindAllStringSubmatch(err.Error(), maxPath) {
		asker = keyOf(step[1])
		path = append(path, a.service(asker.of))
	}
	for _, text := range strings.Split(m[1], ";") {
		k := keyOf(strings.TrimSpace(text))
		f := record.Failure{
			Service: a.service(k.of), Key: k.name + k.group, Why: "missing", Scope: a.here(), Path: append(path[:len(path):len(path)], a.service(k.of)),
		}
		if len(path) == 0 { // the function itself asked for it
			f.Entry = function
		} else if askers := a.base[asker]; len(askers) == 1 {
			f.For = askers[0].reg
		}
		a.fail(f)
	}
}

// building is a step of the way to what is missing.
var building = regexp.MustCompile(`failed to build (\S+?(?:\[[^\]]*\])?):`)

// maxPath bounds the recorded path.
const maxPath = 64

// service is a type's name without its asterisks, unless another type has that one.
func (a *app) service(of string) string { return a.names.Of(of) }

// know notes the value of a type, where one instance of it is known.
func (a *app) know(t reflect.Type, v any) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if r := a.answer("", key{of: t.String()}, nil); r != nil && r.inst != 0 {
		a.rec.Know(v, r.inst)
		if r.more.Impl == "" {
			r.more.Impl = a.names.Type(reflect.TypeOf(v))
			a.rec.Again(r.reg, r.more)
		}
	}
}

// linked assigns each constructor its needs from fx's graph, once.
func (a *app) linked() {
	if a.graph == nil {
		return
	}
	nodes := a.graph
	a.graph = nil
	// The graph has the constructors of the whole application first, in the order in which they were provided, and then those that
	// modules keep to themselves. It has one more for each logger.
	list := append(slices.DeleteFunc(slices.Clone(a.provided), func(p *provided) bool { return p.private }),
		slices.DeleteFunc(slices.Clone(a.provided), func(p *provided) bool { return !p.private })...)
	for _, p := range list {
		for len(nodes) > 0 && !nodes[0].may(p) {
			nodes = nodes[1:]
		}
		if len(nodes) == 0 {
			return
		}
		p.needs, nodes = nodes[0].needs, nodes[1:]
	}
}
