package load

import (
	"fmt"
	"slices"
	"strings"

	"keenlantern.example/record/event"
)

// enterprise is an application of ordinary size: 3,000 registrations in 60 packages, 120 endpoints, requests of 5 to 600 instances, and the
// mistakes that applications of that age have, each with many findings and one cause. Names are written as the stream's runtime prints
// them: see EnterpriseLanguages.
type enterprise struct {
	pen
	language int
	regs     []enterpriseReg // from 1
	scoped   [][]event.RegID // by package, what ends with a request
	inst     event.InstID
	singles  []event.InstID // by registration
	k        int
	open     []enterpriseRequest
	most     int
}

type enterpriseReg struct {
	service    string
	lifetime   string
	needs      []event.RegID
	disposable bool
	wraps      event.RegID
}

type enterpriseRequest struct {
	scope event.ScopeID
	made  []event.InstID // that are to be disposed
}

const (
	enterpriseRegs      = 3000
	enterprisePackages  = 60
	enterpriseEndpoints = 120
	enterpriseChain     = 30  // registrations that need one another, in a row
	enterprisePopular   = 400 // consumers of the clock
	enterpriseKeepers   = 340 // singletons that keep the context of a request
	enterpriseLayers    = 6   // of one service, which ten services have: the last registrations
	enterpriseLayered   = enterpriseRegs - 10*enterpriseLayers
	enterpriseLeaks     = 9  // endpoints at which a lease is not disposed
	enterpriseMissing   = 40 // endpoints that ask for a service which is not registered

	// Registrations with a part of their own.
	enterpriseClock   = 1 // a singleton that 400 registrations need
	enterpriseContext = 2 // of a request: 340 singletons keep it
	enterpriseLease   = 3 // of a request, disposable: not disposed at nine endpoints
)

var (
	enterpriseAreas = []string{"operations", "navigation", "settlement", "registry", "compliance", "logistics"}
	enterpriseRooms = []string{"ledger", "mooring", "clearance", "pilotage", "tides", "dredging", "towage", "signals", "archives", "stations"}
	enterpriseNouns = []string{"Mooring", "Clearance", "Berth", "Tide", "Tug", "Pilot", "Gauge", "Buoy", "Channel", "Manifest", "Quay", "Beacon"}
	enterpriseRoles = []string{"Validator", "Repository", "Handler", "Publisher", "Assembler", "Scheduler", "Projection", "Gateway", "Policy", "Formatter"}
)

// enterpriseName returns the name of a registration, as a runtime prints it.
func enterpriseName(language, n int) string {
	area, room := enterpriseAreas[n%len(enterpriseAreas)], enterpriseRooms[n/6%len(enterpriseRooms)]
	noun, role := enterpriseNouns[n/7%len(enterpriseNouns)], enterpriseRoles[n/11%len(enterpriseRoles)]
	title := func(s string) string { return strings.ToUpper(s[:1]) + s[1:] }
	switch language % 5 {
	case 1: // .NET
		if n%9 == 0 {
			return fmt.Sprintf("Saltmarsh.%s.%s.Infrastructure.%s%d<Saltmarsh.Harbour.%s, System.Guid>", title(area), title(room), role, n, noun)
		}
		return fmt.Sprintf("Saltmarsh.%s.%s.Infrastructure.Messaging.%s%s%d", title(area), title(room), noun, role, n)
	case 2: // PHP
		return fmt.Sprintf(`Saltmarsh\%s\%s\Infrastructure\%s%s%d`, title(area), title(room), noun, role, n)
	case 3: // Go
		return fmt.Sprintf("*example.org/saltmarsh/%s/v3/internal/%s.%s%s%d", area, room, noun, role, n)
	case 4: // TypeScript
		if n%9 == 0 {
			return fmt.Sprintf("Symbol(saltmarsh.%s.%s.%s%d)", area, room, strings.ToLower(noun), n)
		}
		return fmt.Sprintf("@saltmarsh/%s/%s/%s%s%d", area, room, noun, role, n)
	default: // Java
		return fmt.Sprintf("org.saltmarsh.%s.%s.infrastructure.messaging.%s%s%s%d", area, room, title(room), noun, role, n)
	}
}

// enterprisePlace returns a place in the source of 80 letters.
func enterprisePlace(language, n int) string {
	ending := []string{".java", ".cs", ".php", ".go", ".ts"}[language%5]
	area, room := enterpriseAreas[n%len(enterpriseAreas)], enterpriseRooms[n/6%len(enterpriseRooms)]
	end := fmt.Sprintf("/configuration/%sConfiguration%d%s:%d", strings.ToUpper(room[:1])+room[1:], n/50, ending, n%50*7+12)
	start := "services/" + area + "/src/main/org/saltmarsh/" + area + "/" + room
	for len(start)+len(end) < 80 {
		start += "/" + room
	}
	return start + end
}

// EnterpriseLanguages are the beginnings of streams' names by which their names are written as those of .NET, PHP, Go and TypeScript; the
// names of all other streams are those of Java.
var EnterpriseLanguages = []string{"java", "dotnet", "php", "go", "node"}

func newEnterprise(stream string, open int) Writer {
	language := max(0, slices.IndexFunc(EnterpriseLanguages, func(name string) bool { return strings.HasPrefix(stream, name+"-") }))
	w := &enterprise{pen: newPen(stream), language: language, most: max(1, open), singles: make([]event.InstID, enterpriseRegs+1), scoped: make([][]event.RegID, enterprisePackages)}
	w.regs = append(w.regs, enterpriseReg{})
	for n := 1; n <= enterpriseRegs; n++ {
		w.regs = append(w.regs, w.plan(n))
		w.register(n)
		if _, keyed := enterpriseKey(n); w.regs[n].lifetime != "singleton" && !keyed && n > 10 && n <= enterpriseLayered {
			in := (n - 1) * enterprisePackages / enterpriseRegs
			w.scoped[in] = append(w.scoped[in], event.RegID(n))
		}
	}
	return w
}

// keeps reports whether a registration is one of the singletons that keep the context of a request.
func keeps(n int) bool { return n >= 100 && n < 100+2*enterpriseKeepers && n%2 == 0 }

func (w *enterprise) plan(n int) enterpriseReg {
	r := enterpriseReg{service: enterpriseName(w.language, n), lifetime: []string{"singleton", "scoped", "singleton", "transient", "singleton", "scoped"}[n%6]}
	switch {
	case n == enterpriseClock:
		r.lifetime = "singleton"
	case n == enterpriseContext:
		r.lifetime = "scoped"
	case n == enterpriseLease:
		r.lifetime, r.disposable = "scoped", true
	case keeps(n):
		r.lifetime, r.needs = "singleton", append(r.needs, enterpriseContext)
	case n > enterpriseLayered: // the first of each service is the innermost
		r.lifetime = "scoped"
		if n%enterpriseLayers != 1 {
			r.service, r.wraps = w.regs[n-1].service, event.RegID(n-1)
			r.needs = append(r.needs, r.wraps)
		}
	case r.lifetime == "singleton" && n >= 100+2*enterpriseKeepers: // never built in a recording: the need alone is known
		r.needs = append(r.needs, enterpriseContext)
	default:
		r.disposable = n%8 == 5
	}
	if n > 10 && n%7 == 3 && n/7 < enterprisePopular {
		r.needs = append(r.needs, enterpriseClock)
	}
	if n > enterpriseChain && n%enterpriseChain != 0 && n <= enterpriseLayered && !w.shorter(r.lifetime, n-1) {
		r.needs = append(r.needs, event.RegID(n-1))
	}
	if n%100 == 50 && n <= enterpriseLayered { // twelve needs
		for far := 1; len(r.needs) < 12; far++ {
			if to := n - far*3; to > 10 && !w.shorter(r.lifetime, to) {
				r.needs = append(r.needs, event.RegID(to))
			} else if to <= 10 {
				break
			}
		}
	}
	return r
}

// shorter reports whether an earlier registration lives shorter than a lifetime, so that needing it would be a mistake.
func (w *enterprise) shorter(lifetime string, n int) bool {
	return lifetime == "singleton" && w.regs[n].lifetime != "singleton" || lifetime == "scoped" && w.regs[n].lifetime == "transient"
}

// enterpriseKey returns the key of every twentieth registration: 60 letters.
func enterpriseKey(n int) (string, bool) {
	key := fmt.Sprintf("station/%s/channel-%03d/", enterpriseRooms[n%10], n)
	return key + strings.Repeat("k", max(0, 60-len(key))), n%20 == 7 && n <= enterpriseLayered
}

func (w *enterprise) register(n int) {
	r := w.regs[n]
	w.b = fmt.Appendf(w.b, `{"ev":"register","t":1,"reg":%d,"service":%q,"impl":%q,"lifetime":%q`, n, r.service, enterpriseName(w.language, n)+"Impl", r.lifetime)
	if key, keyed := enterpriseKey(n); keyed {
		w.b = fmt.Appendf(w.b, `,"key":%q`, key)
	}
	for k, to := range r.needs {
		before := ","
		if k == 0 {
			before = `,"needs":[`
		}
		w.b = fmt.Appendf(w.b, `%s{"service":%q,"site":"arg%d"`, before, w.regs[to].service, k)
		if key, keyed := enterpriseKey(int(to)); keyed {
			w.b = fmt.Appendf(w.b, `,"key":%q`, key)
		}
		w.b = append(w.b, '}')
	}
	if len(r.needs) > 0 {
		w.b = append(w.b, ']')
	}
	if r.wraps != 0 {
		w.b = fmt.Appendf(w.b, `,"wraps":%d`, r.wraps)
	}
	w.b = fmt.Appendf(w.b, `,"disposable":%t,"at":%q}`+"\n", r.disposable, enterprisePlace(w.language, n))
}

// enterpriseSize returns how many instances a request to an endpoint builds: 5 to 600, most of them few.
func enterpriseSize(endpoint int) int {
	switch {
	case endpoint%40 == 39:
		return 600
	case endpoint%10 == 9:
		return 150
	}
	return 5 + endpoint*7%40
}

func (w *enterprise) Requests(n int) []byte {
	for range n {
		k := w.k
		w.k++
		w.request(k, int64(k)*1_000_000)
	}
	return w.take()
}

func (w *enterprise) request(k int, t int64) {
	endpoint := k % enterpriseEndpoints
	one := enterpriseRequest{scope: event.ScopeID(k + 1)}
	name := fmt.Sprintf("POST /api/v2/%s/%s/{id}/%s", enterpriseAreas[endpoint%6], enterpriseRooms[endpoint%10], strings.ToLower(enterpriseNouns[endpoint%12]))
	e := &w.e
	e.Scope, e.ScopeKind, e.Name = one.scope, "request", name
	w.say(event.Open, t, event.FScope, event.FKind, event.FName)
	context := w.make(t+100, enterpriseContext, &one)
	lease := w.make(t+200, enterpriseLease, &one, context)
	if endpoint < enterpriseLeaks {
		one.made = nil // "the caller returns it"
	}
	if keeper := 100 + 2*(k/2); k%2 == 0 && keeps(keeper) { // built by the request that first asks for it
		w.make(t+300, event.RegID(keeper), &one, context)
	}
	last, depth := lease, 0
	for layer := range enterpriseLayers {
		reg := event.RegID(enterpriseLayered + 1 + k%10*enterpriseLayers + layer)
		if layer == 0 {
			last = w.make(t+250, reg, &one)
			continue
		}
		last = w.make(t+250+int64(layer), reg, &one, last)
	}
	list := w.scoped[endpoint%(enterprisePackages-2)] // the last ones have layers alone
	for j := range enterpriseSize(endpoint) - 2 {
		at := t + 400 + int64(j)*100
		reg := list[j%len(list)]
		with := []event.InstID{last}
		if depth++; depth == enterpriseChain {
			with, depth = []event.InstID{context}, 0
		}
		if clock := w.single(at, enterpriseClock, &one); j%7 == 0 {
			with = append(with, clock)
		}
		if r := w.regs[reg]; r.lifetime == "scoped" && j >= len(list) {
			continue // the request has one
		}
		last = w.make(at, reg, &one, with...)
	}
	e.Inst, e.Scope, e.Entry, e.Service, e.How = last, one.scope, name, w.regs[list[0]].service, "method"
	w.say(event.Give, t+900_000, event.FInst, event.FScope, event.FEntry, event.FService, event.FHow)
	if endpoint >= enterpriseEndpoints-enterpriseMissing {
		w.b = fmt.Appendf(w.b, `{"ev":"fail","t":%d,"service":%q,"scope":%d,"why":"missing","entry":%q}`+"\n", t+900_100, enterpriseName(w.language, enterpriseRegs+1), one.scope, name)
	}
	if w.open = append(w.open, one); len(w.open) >= w.most {
		w.close(t + 950_000)
	}
}

// single returns the instance of a singleton, which is made when it is first asked for.
func (w *enterprise) single(t int64, reg event.RegID, one *enterpriseRequest) event.InstID {
	if w.singles[reg] == 0 {
		w.make(t, reg, one)
	}
	return w.singles[reg]
}

func (w *enterprise) make(t int64, reg event.RegID, one *enterpriseRequest, with ...event.InstID) event.InstID {
	if w.regs[reg].lifetime == "singleton" && w.singles[reg] != 0 {
		return w.singles[reg]
	}
	w.inst++
	given := make([]event.With, len(with))
	for n, inst := range with {
		given[n] = event.With{Inst: inst}
	}
	w.made(t, w.inst, reg, one.scope, 1000+int64(reg)%9*400, given...)
	if w.regs[reg].lifetime == "singleton" {
		w.singles[reg] = w.inst
	} else if w.regs[reg].disposable {
		one.made = append(one.made, w.inst)
	}
	return w.inst
}

func (w *enterprise) close(t int64) {
	one := w.open[0]
	w.open = w.open[1:]
	for n := len(one.made) - 1; n >= 0; n-- {
		w.disposed(t, one.made[n], one.scope)
	}
	w.closed(t+100, one.scope)
}

func (w *enterprise) End() []byte {
	t := int64(w.k) * 1_000_000
	for len(w.open) > 0 {
		w.close(t)
	}
	w.b = fmt.Appendf(w.b, `{"ev":"bye","t":%d}`+"\n", t+1000)
	return w.take()
}
