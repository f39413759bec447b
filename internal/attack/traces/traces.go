// Package traces writes traces that are meant to hurt their readers: valid lines, in numbers and shapes that no
// application has. Each function returns the lines of one stream; sizes are the caller's.
package traces

import (
	"fmt"
	"strconv"
	"strings"
)

// writer collects lines.
type writer struct {
	strings.Builder
	t int64
}

// Hello returns the first line of a stream.
func Hello(stream string) string {
	return fmt.Sprintf(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":%q,"start":"2026-03-02T05:40:00.000000000Z","environment":"test"}`+"\n", stream)
}

func begin(stream string) *writer {
	w := &writer{}
	w.WriteString(Hello(stream))
	return w
}

// line writes one line; its time goes before what is given.
func (w *writer) line(ev, format string, args ...any) {
	w.t += 10
	fmt.Fprintf(w, `{"ev":%q,"t":%d`, ev, w.t)
	if format != "" {
		w.WriteByte(',')
		fmt.Fprintf(w, format, args...)
	}
	w.WriteString("}\n")
}

func (w *writer) bye() string {
	w.line("bye", "")
	return w.String()
}

// OneScope makes n instances in one scope and closes it.
func OneScope(stream string, n int) string {
	w := begin(stream)
	w.line("open", `"scope":1,"kind":"request","name":"GET /tides"`)
	for k := range n {
		w.line("make", `"inst":%d,"scope":1,"impl":"Gauge"`, k+1)
	}
	w.line("close", `"scope":1`)
	return w.bye()
}

// Ring puts n containers inside each other in a ring (one: inside itself) and makes something in each.
func Ring(stream string, n int) string {
	w := begin(stream)
	for k := range n {
		w.line("container", `"container":%d`, k+2)
	}
	for k := range n {
		w.line("container", `"container":%d,"in":%d`, k+2, 2+(k+1)%n)
	}
	w.line("container", `"container":%d,"in":%d`, n+2, n+2)
	for k := range n + 1 {
		w.line("register", `"reg":%d,"service":"TideSource","lifetime":"singleton","container":%d`, k+1, k+2)
		w.line("make", `"inst":%d,"reg":%d,"scope":0,"container":%d`, k+1, k+1, k+2)
		w.line("give", `"inst":%d,"scope":0,"entry":"start"`, k+1)
	}
	return w.bye()
}

// Ladder makes layers of transients, each given the whole layer below, in one request after the other; a singleton holds
// the top of each, so that the number of ways down to the scoped ones at the bottom is wide to the power of layers.
func Ladder(stream string, layers, wide, requests int) string {
	w := begin(stream)
	w.line("register", `"reg":1,"service":"BerthPlan","lifetime":"singleton"`)
	w.line("register", `"reg":2,"service":"TideSource","lifetime":"scoped","disposable":true`)
	w.line("register", `"reg":3,"service":"Step","lifetime":"transient","disposable":true`)
	inst := 0
	for r := range requests {
		w.line("open", `"scope":%d,"kind":"request","name":"GET /berths"`, r+1)
		var below []string
		for layer := range layers {
			var here []string
			for range wide {
				inst++
				reg := 3
				if layer == 0 {
					reg = 2
				}
				w.line("make", `"inst":%d,"reg":%d,"scope":%d,"with":[%s]`, inst, reg, r+1, strings.Join(below, ","))
				here = append(here, fmt.Sprint(inst))
			}
			below = here
		}
		inst++
		w.line("make", `"inst":%d,"reg":1,"scope":%d,"owner":0,"with":[%s]`, inst, r+1, strings.Join(below, ","))
		w.line("close", `"scope":%d`, r+1)
		w.line("open", `"scope":%d`, requests+r+1)
		for _, b := range below {
			w.line("use", `"inst":%s,"scope":%d,"by":%d`, b, requests+r+1, inst)
		}
		w.line("close", `"scope":%d`, requests+r+1)
	}
	return w.bye()
}

// Declared has layers of registrations, each of which needs all of the layer below: scoped ones at the bottom, singletons at the top, transients
// between. In a circle, all transients need one another too.
func Declared(stream string, layers, wide int, circle bool) string {
	w := begin(stream)
	reg := 0
	for layer := range layers {
		lifetime := "transient"
		switch layer {
		case 0:
			lifetime = "scoped"
		case layers - 1:
			lifetime = "singleton"
		}
		for n := range wide {
			reg++
			needs := []string{}
			for below := range wide {
				if layer > 0 {
					needs = append(needs, fmt.Sprintf(`{"service":"L%dN%d"}`, layer-1, below))
				}
			}
			for other := 1; circle && lifetime == "transient" && other < layers-1; other++ {
				needs = append(needs, fmt.Sprintf(`{"service":"L%dN%d"}`, other, n))
			}
			w.line("register", `"reg":%d,"service":"L%dN%d","lifetime":%q,"needs":[%s]`, reg, layer, n, lifetime, strings.Join(needs, ","))
		}
	}
	return w.bye()
}

// SameService registers one service n times, makes each and hands it out.
func SameService(stream string, n int) string {
	w := begin(stream)
	for k := range n {
		w.line("register", `"reg":%d,"service":"TideSource","impl":"Gauge%d","lifetime":"singleton"`, k+1, k)
		w.line("make", `"inst":%d,"reg":%d,"scope":0`, k+1, k+1)
		w.line("give", `"inst":%d,"scope":0,"entry":"start","service":"TideSource"`, k+1)
	}
	return w.bye()
}

// Services registers n services in a chain of needs, and asks for as many that there are not.
func Services(stream string, n int) string {
	w := begin(stream)
	for k := range n {
		w.line("register", `"reg":%d,"service":"Berth%d","impl":"BerthImpl%d","lifetime":"transient","needs":[{"service":"Berth%d"}]`, k+1, k, k, (k+1)%n)
		if k%10 == 0 {
			w.line("fail", `"service":"Berht%d","why":"missing","scope":0`, k)
		}
	}
	return w.bye()
}

// Nested opens n scopes, one in the other, makes and uses something in each, and closes them from the inside.
func Nested(stream string, n int) string {
	w := begin(stream)
	for k := range n {
		w.line("open", `"scope":%d,"in":%d,"name":"step"`, k+1, k)
		w.line("make", `"inst":%d,"scope":%d,"impl":"Step"`, k+1, k+1)
		w.line("use", `"inst":%d,"scope":%d`, k/2+1, k+1)
	}
	for k := n; k > 0; k-- {
		w.line("close", `"scope":%d`, k)
	}
	return w.bye()
}

// Names opens n scopes with their own names, of so many bytes, hands something to an entry point of its own in each,
// and fails to find its own service.
func Names(stream string, n, bytes int) string {
	w := begin(stream)
	w.line("make", `"inst":1,"scope":0,"impl":"Gauge"`)
	long := strings.Repeat("x", bytes)
	for k := range n {
		w.line("open", `"scope":%d,"name":"%d%s","trace":"%d%s"`, k+1, k, long, k, long)
		w.line("give", `"inst":1,"scope":%d,"entry":"e%d%s"`, k+1, k, long)
		w.line("fail", `"service":"s%d%s","why":"missing","scope":%d,"path":["p%d%s"]`, k, long, k+1, k, long)
		w.line("close", `"scope":%d`, k+1)
	}
	return w.bye()
}

// Singletons registers and makes n of them, each given to the next.
func Singletons(stream string, n int) string {
	w := begin(stream)
	for k := range n {
		w.line("register", `"reg":%d,"service":"Berth%d","lifetime":"singleton","disposable":true`, k+1, k)
	}
	for k := range n {
		w.line("make", `"inst":%d,"reg":%d,"scope":0,"with":[%d]`, k+1, k+1, k)
	}
	return w.bye()
}

// Held writes n lines about instances that never come, each with a text of so many bytes.
func Held(stream string, n, bytes int) string {
	w := begin(stream)
	long := strings.Repeat("x", bytes)
	for k := range n {
		w.line("give", `"inst":%d,"entry":"%d%s"`, 1_000_000+k, k, long)
	}
	return w.bye()
}

// Composite makes one instance that is given n others of its own service at once.
func Composite(stream string, n int) string {
	w := begin(stream)
	w.line("register", `"reg":1,"service":"TideSource","impl":"Gauge","lifetime":"transient"`)
	w.line("register", `"reg":2,"service":"TideSource","impl":"Mean","lifetime":"transient"`)
	w.line("open", `"scope":1`)
	ids := make([]string, n)
	for k := range n {
		w.line("make", `"inst":%d,"reg":1,"scope":1`, k+1)
		ids[k] = fmt.Sprint(k + 1)
	}
	for k := range 3 {
		w.line("make", `"inst":%d,"reg":2,"scope":1,"with":[%s]`, n+k+1, strings.Join(ids, ","))
	}
	w.line("close", `"scope":1`)
	return w.bye()
}

// Chain builds n transients, each with the one before it, a scoped one at the bottom and a singleton at the top, and uses the scoped one in a
// later scope.
func Chain(stream string, n int) string {
	w := begin(stream)
	w.lifetimes("scoped", "transient", "singleton")
	w.line("open", `"scope":1,"name":"watch"`)
	w.line("make", `"inst":1,"reg":1,"scope":1`)
	for k := 2; k < n+2; k++ {
		w.line("make", `"inst":%d,"reg":2,"scope":1,"with":[%d]`, k, k-1)
	}
	w.line("make", `"inst":%d,"reg":3,"scope":0,"with":[%d]`, n+2, n+1)
	w.line("close", `"scope":1`)
	w.line("open", `"scope":2,"name":"watch"`)
	w.line("use", `"inst":1,"scope":2`)
	w.line("close", `"scope":2`)
	return w.bye()
}

// Sibling has n transients of one scope keep a scoped instance that another scope uses n times.
func Sibling(stream string, n int) string {
	w := begin(stream)
	w.lifetimes("scoped", "transient")
	w.line("open", `"scope":1,"name":"watch"`)
	w.line("open", `"scope":2,"name":"watch"`)
	w.line("make", `"inst":1,"reg":1,"scope":1`)
	for k := range n {
		w.line("make", `"inst":%d,"reg":2,"scope":1,"with":[1]`, k+2)
	}
	for range n {
		w.line("use", `"inst":1,"scope":2`)
	}
	w.line("close", `"scope":2`)
	w.line("close", `"scope":1`)
	return w.bye()
}

// Captive has n transients and a singleton keep a scoped instance, which n later scopes use.
func Captive(stream string, n int) string {
	w := begin(stream)
	w.lifetimes("scoped", "transient", "singleton")
	w.line("open", `"scope":1,"name":"watch"`)
	w.line("make", `"inst":1,"reg":1,"scope":1`)
	ids := make([]string, n)
	for k := range n {
		w.line("make", `"inst":%d,"reg":2,"scope":1,"with":[1]`, k+2)
		ids[k] = strconv.Itoa(k + 2)
	}
	w.line("make", `"inst":%d,"reg":3,"scope":0,"with":[%s]`, n+2, strings.Join(ids, ","))
	w.line("close", `"scope":1`)
	for k := range n {
		w.line("open", `"scope":%d,"name":"watch"`, k+2)
		w.line("use", `"inst":1,"scope":%d,"by":2`, k+2)
		w.line("close", `"scope":%d`, k+2)
	}
	return w.bye()
}

// AtOnce has a scoped instance of the root kept by one transient in each of n scopes that are open together.
func AtOnce(stream string, n int) string {
	w := begin(stream)
	w.lifetimes("scoped", "transient")
	w.line("make", `"inst":1,"reg":1,"scope":0`)
	for k := range n {
		w.line("open", `"scope":%d,"name":"watch"`, k+1)
		w.line("make", `"inst":%d,"reg":2,"scope":%d,"with":[1]`, k+2, k+1)
	}
	for k := range n {
		w.line("use", `"inst":1,"scope":%d,"by":%d`, k+1, k+2)
		w.line("close", `"scope":%d`, k+1)
	}
	return w.bye()
}

// Piles makes n disposable transients of the root, each in a scope that stays open. Leased: the first one works in two scopes before.
func Piles(stream string, n int, leased bool) string {
	w := begin(stream)
	w.line("register", `"reg":1,"service":"Radio","lifetime":"transient","disposable":true`)
	if leased {
		w.line("make", `"inst":%d,"reg":1,"scope":0,"with":[]`, n+1)
		for scope := n + 1; scope <= n+2; scope++ {
			w.line("open", `"scope":%d`, scope)
			w.line("use", `"inst":%d,"scope":%d`, n+1, scope)
		}
	}
	for k := 1; k <= n; k++ {
		w.line("open", `"scope":%d`, k)
		w.line("make", `"inst":%d,"reg":1,"scope":%d,"owner":0,"with":[]`, k, k)
	}
	return w.bye()
}

// Wide gives one singleton an instance of each of n registrations, whose makes come before or after its own; each is used by it and disposed.
func Wide(stream string, n int, after bool) string {
	w := begin(stream)
	needs, ids := make([]string, n), make([]string, n)
	for k := range n {
		w.line("register", `"reg":%d,"service":"Berth%d","lifetime":"scoped","disposable":true`, k+1, k)
		needs[k], ids[k] = fmt.Sprintf(`{"service":"Berth%d"}`, k), strconv.Itoa(k+1)
	}
	w.line("register", `"reg":%d,"service":"Quay","lifetime":"singleton","disposable":true,"needs":[%s]`, n+1, strings.Join(needs, ","))
	w.line("open", `"scope":1,"name":"watch"`)
	holder := func() { w.line("make", `"inst":%d,"reg":%d,"scope":0,"with":[%s]`, n+1, n+1, strings.Join(ids, ",")) }
	if after {
		holder()
	}
	for k := range n {
		w.line("make", `"inst":%d,"reg":%d,"scope":1`, k+1, k+1)
	}
	if !after {
		holder()
	}
	for k := range n {
		w.line("use", `"inst":%d,"scope":1,"by":%d`, k+1, n+1)
		w.line("dispose", `"inst":%d,"scope":1`, k+1)
	}
	w.line("close", `"scope":1`)
	w.line("dispose", `"inst":%d`, n+1)
	return w.bye()
}

// Resets builds one singleton in each of n containers, or n times in one, and resets the container after each.
func Resets(stream string, n int, one bool) string {
	w := begin(stream)
	w.line("register", `"reg":1,"service":"Berth","lifetime":"singleton"`)
	for k := range n {
		reg, container := 1, 1
		if !one {
			reg, container = k+2, k+2
			w.line("container", `"container":%d,"scope":%d`, container, 1_000_000+k)
			w.line("register", `"reg":%d,"service":"Berth","lifetime":"singleton","container":%d`, reg, container)
		}
		w.line("make", `"inst":%d,"reg":%d,"scope":0`, k+1, reg)
		w.line("forget", `"container":%d`, container)
	}
	return w.bye()
}

// lifetimes registers one service of each of these lifetimes.
func (w *writer) lifetimes(list ...string) {
	for n, lifetime := range list {
		w.line("register", `"reg":%d,"service":"Berth%d","lifetime":%q`, n+1, n, lifetime)
	}
}
