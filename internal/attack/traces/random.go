package traces

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Random returns a stream of n lines drawn from seed: any kind, any field, ids that are new, known, ended or never come,
// containers in rings, owners that have closed, unknown lifetimes and words. Every line is well formed; whether
// the lines make sense together is left to chance, which is weighted so that much of it does.
func Random(stream string, seed uint64, n int) string {
	g := &chance{Rand: rand.New(rand.NewPCG(seed, 1)), writer: begin(stream)}
	for range n {
		g.any()
	}
	if g.IntN(2) == 0 {
		g.line("bye", "")
	}
	return g.String()
}

type chance struct {
	*rand.Rand
	*writer
	insts, scopes, regs, conts int
}

// id returns one of the ids given out so far, mostly a late one, now and then one to come.
func (g *chance) id(given int) int {
	switch g.IntN(12) {
	case 0:
		return given + 1 + g.IntN(3)
	case 1, 2:
		return g.IntN(given + 1)
	}
	return max(0, given-g.IntN(min(given, 8)+1))
}

func (g *chance) of(list ...string) string { return list[g.IntN(len(list))] }

func (g *chance) service() string { return fmt.Sprintf("S%d", g.IntN(6)) }

// some adds each field with a chance of one in three.
func (g *chance) some(fields ...string) string {
	out := ""
	for _, f := range fields {
		if g.IntN(3) == 0 {
			out += "," + f
		}
	}
	return out
}

func (g *chance) flag(name string) string { return fmt.Sprintf(`%q:%v`, name, g.IntN(2) == 0) }

func (g *chance) with() string {
	var list []string
	for range g.IntN(5) {
		switch g.IntN(8) {
		case 0:
			list = append(list, "null")
		case 1:
			list = append(list, g.of(fmt.Sprintf("[%d,%d]", g.id(g.insts), g.id(g.insts)), "[]"))
		case 2:
			list = append(list, fmt.Sprintf(`{"inst":%d%s}`, g.id(g.insts), g.some(`"site":"a"`, `"service":"`+g.service()+`"`, `"key":"k1"`, fmt.Sprintf(`"via":%d`, g.id(g.regs)+1), g.flag("kept"), g.flag("unknown"))))
		default:
			list = append(list, fmt.Sprint(g.id(g.insts)))
		}
	}
	return strings.Join(list, ",")
}

func (g *chance) needs() string {
	var list []string
	for range g.IntN(4) {
		list = append(list, fmt.Sprintf(`{"service":%q%s}`, g.service(), g.some(`"site":"a"`, `"key":"k1"`, `"how":"`+g.of("constructor", "property", "method", "field", "setter")+`"`, g.flag("all"), g.flag("optional"), g.flag("lazy"))))
	}
	return strings.Join(list, ",")
}

func (g *chance) any() {
	if g.IntN(3) == 0 {
		g.t -= int64(g.IntN(60)) // out of order by a little, or at once
	}
	switch g.IntN(24) {
	case 0:
		g.conts++
		g.line("container", `"container":%d%s`, g.id(g.conts)+1, g.some(fmt.Sprintf(`"in":%d`, g.id(g.conts)+1), fmt.Sprintf(`"scope":%d`, g.id(g.scopes)), `"name":"c"`,
			`"duplicates":"`+g.of("last", "first", "primary", "error", "?")+`"`, `"cycles":"`+g.of("refused", "proxied")+`"`))
	case 1, 2, 3:
		g.regs++
		id := g.regs
		if g.IntN(4) == 0 {
			id = g.id(g.regs) + 1
		}
		g.line("register", `"reg":%d,"service":%q%s`, id, g.service(), g.some(
			fmt.Sprintf(`"impl":"I%d"`, g.IntN(5)), fmt.Sprintf(`"impl":"I%d"`, g.IntN(5)), `"lifetime":"`+g.of("singleton", "scoped", "transient", "per-consumer", "external", "?")+`"`,
			`"lifetime":"`+g.of("singleton", "scoped", "transient")+`"`, `"declared":"singleton"`, fmt.Sprintf(`"container":%d`, g.id(g.conts)+1), fmt.Sprintf(`"key":"k%d"`, g.IntN(3)),
			fmt.Sprintf(`"also":[{"service":%q}]`, g.service()), `"needs":[`+g.needs()+`]`, fmt.Sprintf(`"wraps":%d`, g.id(g.regs)+1), fmt.Sprintf(`"alias":%d`, g.id(g.regs)+1),
			fmt.Sprintf(`"proxy":%d`, g.id(g.regs)+1), fmt.Sprintf(`"template":[%q]`, g.of("any-key", "any-type")), fmt.Sprintf(`"form_of":%d`, g.id(g.regs)+1), g.flag("pooled"),
			`"mechanism":"interface"`, `"signature":"I1(S1)"`, g.flag("primary"), g.flag("local"), g.flag("internal"), g.flag("disposable"), g.flag("disposable"),
			`"disposer":"`+g.of("container", "code", "nobody")+`"`, g.flag("shareable"), `"sees":["with","use"]`))
	case 4, 5, 6:
		g.scopes++
		g.line("open", `"scope":%d%s`, g.scopes, g.some(fmt.Sprintf(`"in":%d`, g.id(g.scopes)), `"kind":"request"`, fmt.Sprintf(`"name":"N%d"`, g.IntN(3)), `"weight":10`, `"ends":"unknown"`, `"closer":"`+g.of("framework", "code", "unknown")+`"`, fmt.Sprintf(`"opener":%d`, g.id(g.insts)), `"at":"o.go:1"`))
	case 7, 8, 9, 10, 11:
		g.insts++
		g.line("make", `"inst":%d,"scope":%d,"with":[%s]%s`, g.insts, g.id(g.scopes), g.with(), g.some(
			fmt.Sprintf(`"reg":%d`, g.id(g.regs)+1), fmt.Sprintf(`"reg":%d`, g.id(g.regs)+1), fmt.Sprintf(`"owner":%s`, g.of("null", fmt.Sprint(g.id(g.scopes)))), fmt.Sprintf(`"ns":%d`, g.IntN(2_000_000)),
			`"by":"`+g.of("container", "factory", "external", "direct")+`"`, fmt.Sprintf(`"impl":"I%d"`, g.IntN(5)), g.flag("disposable"), `"disposer":"`+g.of("container", "code", "nobody")+`"`, `"size":64`, `"module":"m"`))
	case 12, 13, 14:
		g.line("give", `"inst":%d%s`, g.id(g.insts), g.some(fmt.Sprintf(`"scope":%d`, g.id(g.scopes)), fmt.Sprintf(`"to":%d`, g.id(g.insts)), `"entry":"e"`, fmt.Sprintf(`"service":%q`, g.service()),
			`"key":"k1"`, fmt.Sprintf(`"via":%d`, g.id(g.regs)+1), `"how":"`+g.of("property", "field", "setter", "method", "locator", "factory", "provider")+`"`, `"site":"a"`, g.flag("all")))
	case 15, 16, 17:
		g.line("use", `"inst":%d%s`, g.id(g.insts), g.some(fmt.Sprintf(`"scope":%d`, g.id(g.scopes)), fmt.Sprintf(`"by":%d`, g.id(g.insts)), fmt.Sprintf(`"ns":%d`, g.IntN(100)), `"thread":"t1"`, `"count":3`))
	case 18, 19:
		g.line("dispose", `"inst":%d%s`, g.id(g.insts), g.some(fmt.Sprintf(`"scope":%d`, g.id(g.scopes)), `"ns":5`, `"by":"`+g.of("container", "owner", "code", "runtime")+`"`, `"state":"`+g.of("begun", "done", "failed", "handed", "refused", "returned", "returned")+`"`, `"error":"E"`))
	case 20:
		if g.IntN(6) == 0 {
			g.line("forget", `"container":%d`, g.id(g.conts)+1)
			return
		}
		g.line("forget", `"inst":%d,"by":"runtime"`, g.id(g.insts))
	case 21, 22:
		g.line("close", `"scope":%d`, g.id(g.scopes))
	case 23:
		if g.IntN(8) == 0 {
			g.line("gap", `"lost":3`)
			return
		}
		g.line("fail", `"service":%q,"why":%q%s`, g.service(), g.of("missing", "missing", "cycle", "ambiguous", "constructors", "lifetime", "no-scope", "closed", "error"), g.some(g.flag("optional"), fmt.Sprintf(`"scope":%d`, g.id(g.scopes)),
			fmt.Sprintf(`"key":"k%d"`, g.IntN(20)), `"entry":"e"`, `"error":"E"`, `"at":"f.go:1"`, fmt.Sprintf(`"to":%d`, g.id(g.insts)), fmt.Sprintf(`"for":%d`, g.id(g.regs)+1), fmt.Sprintf(`"path":[%q,%q,%q]`, g.service(), g.service(), g.service())))
	}
}
