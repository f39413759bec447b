package rules_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// This file is a second reading of docs/findings.md: plain, of a whole trace at once, without a thought for speed, and
// sharing nothing with the first but the page that both are written from. Where the two disagree on one of many random
// traces, the trace is cut down to the lines that matter and shown.

// line is one event, with the fields that the generator writes.
type line struct {
	ev                         string
	id, scope, in, owner, to   int // -1: left out
	reg, wraps, alias, proxy   int // 0: left out
	container, within          int // 0: left out
	service, key, impl, life   string
	also                       string
	needs                      []need
	with                       []given
	disposable, primary, local bool
	by, how, entry, dup        string
	user                       int // of a use
}

type need struct {
	service, key string
	all, lazy    bool
}

type given struct {
	inst    int
	reading bool // kept: false
	via     int
	list    []int
}

func (l *line) json(n int) string {
	m := map[string]any{"ev": l.ev, "t": n * 1000}
	set := func(name string, v any, given bool) {
		if given {
			m[name] = v
		}
	}
	switch l.ev {
	case "container":
		m["container"] = l.id
		set("in", l.in, l.in >= 0)
		set("scope", l.scope, l.scope >= 0)
		set("duplicates", l.dup, l.dup != "")
	case "register":
		m["reg"], m["service"], m["lifetime"] = l.id, l.service, l.life
		set("key", l.key, l.key != "")
		set("impl", l.impl, l.impl != "")
		set("container", l.container, l.container > 0)
		set("wraps", l.wraps, l.wraps > 0)
		set("alias", l.alias, l.alias > 0)
		set("proxy", l.proxy, l.proxy > 0)
		set("disposable", true, l.disposable)
		set("primary", true, l.primary)
		set("local", true, l.local)
		if l.also != "" {
			m["also"] = []any{map[string]any{"service": l.also}}
		}
		var needs []any
		for _, n := range l.needs {
			one := map[string]any{"service": n.service}
			if n.key != "" {
				one["key"] = n.key
			}
			if n.all {
				one["all"] = true
			}
			if n.lazy {
				one["lazy"] = true
			}
			needs = append(needs, one)
		}
		set("needs", needs, needs != nil)
	case "open":
		m["scope"], m["in"], m["kind"] = l.id, l.in, "request"
		set("within", l.within, l.within > 0)
	case "close":
		m["scope"] = l.id
	case "make":
		m["inst"], m["scope"] = l.id, l.scope
		set("reg", l.reg, l.reg > 0)
		set("owner", l.owner, l.owner >= 0)
		set("by", l.by, l.by != "")
		set("disposable", true, l.disposable)
		set("impl", l.impl, l.impl != "")
		with := []any{}
		for _, g := range l.with {
			switch {
			case g.list != nil:
				with = append(with, g.list)
			case g.reading:
				with = append(with, map[string]any{"inst": g.inst, "kept": false})
			case g.via > 0:
				with = append(with, map[string]any{"inst": g.inst, "via": g.via})
			default:
				with = append(with, g.inst)
			}
		}
		m["with"] = with
	case "give":
		m["inst"] = l.id
		set("scope", l.scope, l.scope >= 0)
		set("to", l.to, l.to >= 0)
		set("how", l.how, l.how != "")
		set("entry", l.entry, l.entry != "")
	case "use":
		m["inst"] = l.id
		set("scope", l.scope, l.scope >= 0)
		set("by", l.user, l.user > 0)
	case "dispose":
		m["inst"], m["by"], m["scope"] = l.id, l.by, l.scope
	case "forget":
		m["inst"] = l.id
	case "gap":
		m["lost"] = 1
	}
	b, _ := json.Marshal(m)
	return string(b)
}

func render(trace []line) string { return stream("slow", trace) }

func stream(name string, trace []line) string {
	b := &strings.Builder{}
	fmt.Fprintf(b, `{"ev":"hello","t":0,"format":"lantern/1","app":"pilots","stream":%q,"start":"2026-03-02T06:00:00Z"}`+"\n", name)
	for n := range trace {
		b.WriteString(trace[n].json(n+1) + "\n")
	}
	return b.String()
}

// verdicts are what a reading finds: for each rule and subject, how many.
type verdicts map[string]int

func (v verdicts) String() string {
	keys := slices.Sorted(maps.Keys(v))
	b := &strings.Builder{}
	for _, k := range keys {
		fmt.Fprintf(b, "%s ×%d\n", k, v[k])
	}
	return b.String()
}

// compared are the rules that the slow reading knows, each with the figure that is compared.
var compared = map[string]string{
	"captive/scoped": "instances", "captive/root": "instances", "captive/declared": "", "disposal/leaked": "instances", "disposal/at-end": "instances",
	"disposal/unowned": "instances", "disposal/late": "instances", "sharing/lifetime-differs": "instances", "layers/broken": "",
	"disposal/used-after": "instances", "sharing/crossed": "instances", "captive/transient": "", "disposal/unclosed-scope": "scopes",
}

// fast is what the engine finds.
func fast(t *testing.T, trace string) verdicts {
	t.Helper()
	result, err := engine.Analyse(t.Context(), strings.NewReader(trace), reader.Options{}, rules.Default())
	require.NoError(t, err)
	for _, s := range result.Streams {
		require.Nil(t, s.Broken)
		require.Zero(t, s.Health.Refused, "%v\n%s", s.Health.Refusals, trace)
	}
	said := verdicts{}
	for _, f := range result.Findings {
		figure, ok := compared[f.Rule]
		if !ok || f.Rule == "sharing/lifetime-differs" && f.Subject.Lifetime != "singleton" && f.Subject.Lifetime != "scoped" {
			continue
		}
		key := f.Rule + " " + named(f.Subject)
		if f.Holder != nil && strings.HasPrefix(f.Rule, "captive/") {
			key += " in " + named(*f.Holder)
		}
		switch {
		case f.Rule == "captive/scoped":
			said[key] = 1 // ways are counted apart, instances are on several of them
		case figure == "":
			said[key] = 1
		default:
			said[key] += int(f.Counts[figure])
		}
	}
	return said
}

// slow is the second reading.
type slow struct {
	trace  []line
	conts  map[int]*line
	regs   map[int]*line
	order  []int // registrations, as they were first registered
	opens  map[int]int
	closes map[int]int
	makes  map[int]int
	insts  []int
	bye    bool
	keeps  map[[2]int]int // holder and kept: from which line on
	holds  map[[2]int]int // the same, proxies too
}

const never = 1 << 30

func read(trace []line) *slow {
	s := &slow{trace: trace, conts: map[int]*line{1: {id: 1, in: -1, scope: -1}}, regs: map[int]*line{}, opens: map[int]int{}, closes: map[int]int{}, makes: map[int]int{}, keeps: map[[2]int]int{}, holds: map[[2]int]int{}}
	for n := range trace {
		l := &trace[n]
		switch l.ev {
		case "container":
			s.conts[l.id] = l
		case "register":
			if s.regs[l.id] == nil {
				s.order = append(s.order, l.id)
			}
			s.regs[l.id] = l
		case "open":
			s.opens[l.id] = n
		case "close":
			s.closes[l.id] = n
		case "make":
			s.makes[l.id] = n
			s.insts = append(s.insts, l.id)
		case "bye":
			s.bye = true
		}
	}
	s.keepings()
	return s
}

func (s *slow) make(i int) *line { return &s.trace[s.makes[i]] }
func (s *slow) reg(i int) *line  { return s.regs[s.make(i).reg] }

func (s *slow) life(i int) string {
	if r := s.reg(i); r != nil {
		return r.life
	}
	return ""
}

func long(life string) bool {
	return life == "singleton" || life == "per-consumer" || life == "external"
}

func (s *slow) rootOf(container int) int {
	for c := s.conts[max(container, 1)]; c != nil; c = s.conts[c.in] {
		if c.scope >= 0 {
			return c.scope
		}
		if c.in < 0 {
			break
		}
	}
	return 0
}

func (s *slow) isRoot(scope int) bool {
	for _, c := range s.conts {
		if s.rootOf(c.id) == scope {
			return true
		}
	}
	return scope == 0
}

func (s *slow) root(i int) int {
	if r := s.reg(i); r != nil {
		return s.rootOf(r.container)
	}
	return 0
}

// home returns the owner scope of i, -1 where it has none.
func (s *slow) home(i int) int {
	m := s.make(i)
	switch {
	case m.owner >= 0:
		return m.owner
	case m.by == "direct":
		return -1
	case long(s.life(i)):
		return s.root(i)
	}
	return m.scope
}

// parent returns the scope around another, -1 around an outermost root.
func (s *slow) parent(scope int) int {
	for _, c := range s.conts {
		if c.scope == scope {
			if c.in < 0 {
				return -1
			}
			return s.rootOf(c.in)
		}
	}
	if n, ok := s.opens[scope]; ok {
		return s.trace[n].in
	}
	return -1
}

func (s *slow) inside(scope, outer int) bool {
	for ; scope >= 0; scope = s.parent(scope) {
		if scope == outer {
			return true
		}
	}
	return false
}

// ended returns the line at which a scope ended: its close, or that of a root around it.
func (s *slow) ended(scope int) int {
	end := never
	for at := scope; at >= 0; at = s.parent(at) {
		if n, ok := s.closes[at]; ok && (at == scope || s.isRoot(at)) {
			end = min(end, n)
		}
	}
	return end
}

func (s *slow) disposed(i int) int {
	for n := range s.trace {
		if s.trace[n].ev == "dispose" && s.trace[n].id == i {
			return n
		}
	}
	return never
}

func (s *slow) forgotten(i int) int {
	for n := range s.trace {
		if s.trace[n].ev == "forget" && s.trace[n].id == i {
			return n
		}
	}
	return never
}

// gone returns the line from which on i is not alive any more.
func (s *slow) gone(i int) int {
	end := min(s.disposed(i), s.forgotten(i))
	if home := s.home(i); home >= 0 {
		end = min(end, s.ended(home))
	}
	return end
}

func (s *slow) proxied(i int) bool { return s.reg(i) != nil && s.reg(i).proxy > 0 }

func (s *slow) keepings() {
	add := func(h, d, n int) {
		if was, ok := s.holds[[2]int{h, d}]; !ok || n < was {
			s.holds[[2]int{h, d}] = n
			if !s.proxied(d) {
				s.keeps[[2]int{h, d}] = n
			}
		}
	}
	for n := range s.trace {
		l := &s.trace[n]
		switch l.ev {
		case "make":
			for _, g := range l.with {
				if g.reading || g.via > 0 && s.regs[g.via] != nil && s.regs[g.via].proxy > 0 {
					continue
				}
				for _, d := range append(slices.Clone(g.list), g.inst) {
					if _, known := s.makes[d]; d > 0 && known {
						add(l.id, d, n)
					}
				}
			}
		case "give":
			if l.how == "property" && l.to > 0 {
				add(l.to, l.id, n)
			}
		case "use":
			if l.user == 0 {
				continue
			}
			// The latest hand-out of it to its user other than by property.
			for k := n - 1; k >= 0; k-- {
				g := &s.trace[k]
				if g.ev == "give" && g.id == l.id && g.to == l.user && g.how != "property" {
					if g.scope >= 0 && s.ended(g.scope) < n {
						add(l.user, l.id, n)
					}
					break
				}
			}
		}
	}
}

// keepers returns who keeps d.
func (s *slow) keepers(d int) (list []int) {
	for pair := range s.keeps {
		if pair[1] == d {
			list = append(list, pair[0])
		}
	}
	sort.Ints(list)
	return list
}

func (s *slow) belongs(i int) bool {
	home := s.home(i)
	return home >= 0 && !s.proxied(i) && (s.life(i) == "scoped" || s.life(i) == "external" && home != s.root(i))
}

func (s *slow) name(reg *line) string {
	name := reg.service
	if reg.key != "" {
		name += "[" + reg.key + "]"
	}
	if reg.impl != "" && reg.impl != reg.service {
		name += "(" + reg.impl + ")"
	}
	return name
}

func (s *slow) nameOf(i int) string {
	if r := s.reg(i); r != nil {
		return s.name(r)
	}
	return s.make(i).impl
}

// active reports whether something was made, given or used in a scope or inside it, or given outside any known scope, after one line and before another.
func (s *slow) active(scope, after, before int) bool {
	for n := after + 1; n < min(before, len(s.trace)); n++ {
		l := &s.trace[n]
		at := l.scope
		if l.ev == "give" && at < 0 {
			at = s.home(l.id)
		}
		if (l.ev == "make" || l.ev == "give" || l.ev == "use") && at >= 0 && s.inside(at, scope) {
			return true
		}
	}
	return false
}

func (s *slow) captive(said verdicts) {
	for _, d := range s.insts {
		if !s.belongs(d) {
			continue
		}
		home := s.home(d)
		fromRoot := home == s.root(d)
		closed := s.ended(home)
		if !fromRoot && closed == never {
			continue
		}
		// climb follows every way upwards; since is the line from which on there is that way.
		var climb func(at, since int, below []int)
		climb = func(at, since int, below []int) {
			for _, h := range s.keepers(at) {
				since := max(since, s.keeps[[2]int{h, at}])
				hh := s.home(h)
				outlasts := !fromRoot && hh >= 0 && hh != home && s.inside(home, hh)
				switch {
				case slices.Contains(below, h):
				case fromRoot && long(s.life(h)), outlasts && s.life(h) != "transient":
					s.captured(said, h, d, fromRoot)
				case s.belongs(h), long(s.life(h)):
				default:
					if outlasts && !s.keptBefore(h, since) {
						s.captured(said, h, d, fromRoot) // a transient of an outer scope that nothing keeps lives by its own home
					}
					if !s.proxied(h) {
						climb(h, since, append(slices.Clone(below), h))
					}
				}
			}
		}
		climb(d, min(closed, len(s.trace)), []int{d})
	}
}

func (s *slow) keptBefore(i, line int) bool {
	for _, h := range s.keepers(i) {
		if s.keeps[[2]int{h, i}] <= line {
			return true
		}
	}
	return false
}

// captured reports that h holds d, if it was alive when d's home closed and did not end in the same closing.
func (s *slow) captured(said verdicts, h, d int, fromRoot bool) {
	if !fromRoot {
		closed, end := s.ended(s.home(d)), s.gone(h)
		if s.makes[h] > closed || end < closed || end != never && !s.active(s.home(h), closed, end) {
			return
		}
	}
	said["captive/scoped "+s.nameOf(d)+" in "+s.nameOf(h)] = 1
}

func (s *slow) asked(said verdicts) {
	for _, d := range s.insts {
		if s.life(d) != "scoped" || s.proxied(d) || s.home(d) != s.root(d) {
			continue
		}
		if !s.explained(d) {
			said["captive/root "+s.nameOf(d)]++
		}
	}
}

// explained reports whether a longer-lived holder, or a scoped instance of the root that was made later, keeps d, directly or through
// what lives as long as its keepers.
func (s *slow) explained(d int) bool {
	seen, queue := map[int]bool{d: true}, []int{d}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for _, h := range s.keepers(at) {
			switch {
			case seen[h]:
			case long(s.life(h)), s.belongs(h) && s.life(h) == "scoped" && s.home(h) == s.root(d) && s.makes[h] > s.makes[d]:
				return true
			case s.belongs(h):
			case s.proxied(h):
				seen[h] = true
			default:
				seen[h] = true
				queue = append(queue, h)
			}
		}
	}
	return false
}

func (s *slow) disposals(said verdicts) {
	for _, i := range s.insts {
		m, home := s.make(i), s.home(i)
		disposable := m.disposable || s.reg(i) != nil && s.reg(i).disposable
		if !disposable && s.disposed(i) == never {
			continue // what was disposed, was disposable
		}
		by := m.by
		if by == "" {
			by = "container"
		}
		own := by == "container" || by == "factory"
		left := s.disposed(i) == never
		_, closed := s.closes[home]
		switch {
		case own && left && home >= 0 && home != s.root(i) && closed:
			said["disposal/leaked "+s.nameOf(i)]++
		case own && left && home == s.root(i) && (s.bye || s.ended(home) < never):
			said["disposal/at-end "+s.nameOf(i)]++
		case !own && left && (s.bye || home >= 0 && s.ended(home) < never):
			said["disposal/unowned "+s.nameOf(i)]++
		case !left && home >= 0 && s.disposed(i) > s.ended(home) && (by != "external" || s.trace[s.disposed(i)].by != "code"):
			said["disposal/late "+s.nameOf(i)]++
		}
	}
}

func (s *slow) lifetimes(said verdicts) {
	for n, i := range s.insts {
		r := s.reg(i)
		if r == nil || r.life != "singleton" && r.life != "scoped" {
			continue
		}
		at := s.makes[i]
		for _, old := range s.insts[:n] {
			if s.reg(old) != r {
				continue
			}
			if r.life == "singleton" && s.gone(old) > at || r.life == "scoped" && s.home(old) == s.home(i) && s.home(i) >= 0 && min(s.disposed(old), s.forgotten(old)) > at {
				said["sharing/lifetime-differs "+s.name(r)]++
				break
			}
		}
	}
}

// real follows aliases.
func (s *slow) real(r *line) *line {
	for r != nil && r.alias > 0 {
		r = s.regs[r.alias]
	}
	return r
}

func (s *slow) goesBy(r *line, service, key string) bool {
	return r.service == service && r.key == key || r.also == service && key == ""
}

// answerIn returns who answers in one container; there reports whether anything is registered there under that name.
func (s *slow) answerIn(c *line, service, key string) (chosen *line, there bool) {
	var bare, wrapped []*line
	for _, id := range s.order {
		r := s.regs[id]
		if max(r.container, 1) != c.id || r.local || !s.goesBy(r, service, key) {
			continue
		}
		inner := false
		for _, w := range s.regs {
			inner = inner || w.wraps > 0 && !w.local && s.real(s.regs[w.wraps]) == r
		}
		if inner {
			wrapped = append(wrapped, r)
		} else {
			bare = append(bare, r)
		}
	}
	list := bare
	if len(list) == 0 {
		list = wrapped
	}
	switch {
	case len(list) == 0:
		return nil, false
	case len(list) == 1:
		return list[0], true
	}
	switch c.dup {
	case "error":
		return nil, true
	case "first":
		return list[0], true
	case "primary":
		for _, r := range list {
			if r.primary && chosen != nil {
				return nil, true
			}
			if r.primary {
				chosen = r
			}
		}
		return chosen, true
	}
	return list[len(list)-1], true
}

func (s *slow) answer(container int, service, key string) *line {
	for c := s.conts[max(container, 1)]; c != nil; c = s.conts[c.in] {
		if r, there := s.answerIn(c, service, key); there {
			return r
		}
	}
	var only *line
	for _, id := range slices.Sorted(maps.Keys(s.conts)) {
		if r, _ := s.answerIn(s.conts[id], service, key); r != nil {
			if only != nil {
				return nil
			}
			only = r
		}
	}
	return only
}

// wants returns the registrations that an instance of r would keep.
func (s *slow) wants(r *line) (list []*line) {
	inner := s.real(s.regs[r.wraps])
	own := false
	for _, n := range r.needs {
		switch {
		case n.lazy:
		case inner != nil && !own && !n.all && (n.service == r.service || n.service == inner.service):
			own = true
			list = append(list, inner)
		case n.all:
			for _, id := range s.order {
				a := s.regs[id]
				if !s.goesBy(a, n.service, n.key) || a.local {
					continue
				}
				for c := s.conts[max(r.container, 1)]; c != nil; c = s.conts[c.in] {
					if c.id == max(a.container, 1) && s.real(a) != r && s.real(a) != nil {
						list = append(list, s.real(a))
					}
				}
			}
		default:
			if a := s.real(s.answer(r.container, n.service, n.key)); a != nil {
				list = append(list, a)
			}
		}
	}
	if inner != nil && !own {
		list = append(list, inner)
	}
	return list
}

func (s *slow) declared(said verdicts) {
	for _, id := range s.order {
		h := s.regs[id]
		if !long(h.life) || h.alias > 0 || h.proxy > 0 {
			continue
		}
		seen := map[*line]bool{h: true}
		queue := []*line{h}
		for len(queue) > 0 {
			at := queue[0]
			queue = queue[1:]
			for _, to := range s.wants(at) {
				switch {
				case to.proxy > 0 || seen[to]:
				case to.life == "scoped":
					said["captive/declared "+s.name(to)+" in "+s.name(h)] = 1
				case to.life == "transient":
					seen[to] = true
					queue = append(queue, to)
				}
			}
		}
	}
}

func (s *slow) reading(wiring bool) verdicts {
	said := verdicts{}
	if wiring {
		s.declared(said)
		return said
	}
	s.captive(said)
	s.asked(said)
	s.disposals(said)
	s.lifetimes(said)
	s.layers(said)
	s.touched(said)
	s.transients(said)
	s.unclosed(said)
	return said
}

// transients looks at what long-lived instances keep directly.
func (s *slow) transients(said verdicts) {
	for pair := range s.keeps {
		h, d := pair[0], pair[1]
		lasting := long(s.life(h)) && (s.life(h) != "external" || s.home(h) == s.root(h))
		if lasting && s.life(d) == "transient" {
			said["captive/transient "+s.nameOf(d)+" in "+s.nameOf(h)] = 1
		}
	}
}

// unclosed looks at scopes that were never closed themselves, in a stream that ended in order.
func (s *slow) unclosed(said verdicts) {
	for scope := range s.opens {
		if _, closed := s.closes[scope]; s.bye && !closed && !s.isRoot(scope) {
			said["disposal/unclosed-scope request"]++
		}
	}
}

// openedBy reports whether the work of outer, or of a scope in it, opened scope or one around it, and both are open at line n.
func (s *slow) openedBy(scope, outer, n int) bool {
	if s.isRoot(outer) || s.ended(outer) < n {
		return false
	}
	for scope >= 0 {
		at, ok := s.opens[scope]
		if !ok || s.trace[at].within == 0 {
			scope = s.parent(scope)
			continue
		}
		if scope = s.trace[at].within; s.ended(scope) < n {
			return false
		}
		if s.inside(scope, outer) {
			return true
		}
	}
	return false
}

// touched looks at each hand-out and use: of what was disposed, and in scopes that it does not belong to.
func (s *slow) touched(said verdicts) {
	after, crossed := map[int]bool{}, map[int]bool{}
	touch := func(i, scope, n int) {
		if n > s.disposed(i) {
			after[i] = true
		}
		home := s.home(i)
		if scope < 0 || home < 0 || s.isRootOf(i, scope) || s.isRootOf(i, home) || s.inside(scope, home) || s.openedBy(scope, home, n) || s.openedBy(home, scope, n) || s.keptInto(i, scope, n) || s.offeredInto(i, scope, n) {
			return
		}
		crossed[i] = true
	}
	for n := range s.trace {
		switch l := &s.trace[n]; l.ev {
		case "make":
			for _, g := range l.with {
				for _, i := range append(slices.Clone(g.list), g.inst) {
					if i > 0 && n > s.disposed(i) {
						after[i] = true
					}
				}
				if g.reading {
					touch(g.inst, l.scope, n)
					continue
				}
				for _, i := range append(slices.Clone(g.list), g.inst) {
					home, own := s.home(max(i, 0)), s.home(l.id)
					if i > 0 && home >= 0 && own >= 0 && own != home && !s.isRoot(home) && !s.isRoot(own) && s.ended(home) < n && !s.inside(home, own) && !(g.via > 0 && s.regs[g.via].proxy > 0) {
						touch(i, own, n) // it came by it after the end of its scope
					}
				}
			}
		case "give":
			touch(l.id, l.scope, n)
		case "use":
			touch(l.id, l.scope, n)
		}
	}
	for i := range after {
		said["disposal/used-after "+s.nameOf(i)]++
	}
	for i := range crossed {
		said["sharing/crossed "+s.nameOf(i)]++
	}
}

func (s *slow) isRootOf(i, scope int) bool { return scope == s.root(i) }

// keptInto reports whether something that held i before a line (a proxy is held as anything is), directly or through others, belongs to the scope or outlasts it.
func (s *slow) keptInto(i, scope, n int) bool {
	seen, queue := map[int]bool{i: true}, []int{i}
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		for pair, since := range s.holds {
			h := pair[0]
			if pair[1] != at || since >= n {
				continue
			}
			if hh, ah := s.home(h), s.home(at); long(s.life(at)) && ah >= 0 && s.isRoot(ah) && hh >= 0 && hh != ah && s.inside(hh, ah) {
				continue // what is meant to outlast its keepers is not there because of them
			}
			if home := s.home(h); home >= 0 && s.inside(scope, home) {
				return true
			}
			if !seen[h] {
				seen[h] = true
				queue = append(queue, h)
			}
		}
	}
	return false
}

// offeredInto reports whether a receiver that may turn out to keep i belongs to the scope or outlasts it.
func (s *slow) offeredInto(i, scope, n int) bool {
	for k := range n {
		g := &s.trace[k]
		if g.ev != "give" || g.id != i || g.to < 0 || g.scope < 0 || s.gone(g.to) <= n {
			continue
		}
		if home := s.home(g.to); home >= 0 && s.inside(scope, home) {
			return true
		}
	}
	return false
}

// layers looks at what each layer was handed of its own service and key.
func (s *slow) layers(said verdicts) {
	handed := func(h, d int) {
		layer, got := s.reg(h), s.reg(d)
		if layer == nil || got == nil || layer.wraps == 0 || got == layer || got == s.real(s.regs[layer.wraps]) {
			return
		}
		if got.service == layer.service && got.key == layer.key {
			said["layers/broken "+s.name(layer)] = 1
		}
	}
	for n := range s.trace {
		switch l := &s.trace[n]; l.ev {
		case "make":
			for _, g := range l.with {
				if g.list == nil && g.inst > 0 && g.via == 0 {
					handed(l.id, g.inst)
				}
			}
		case "give":
			if l.to > 0 {
				handed(l.to, l.id)
			}
		}
	}
}

// office makes traces of an application that is mostly right: services that ask for one another, in containers, requests
// and steps inside them that run at the same time, and now and then something that should not happen.
type office struct {
	*rand.Rand
	trace []line
	regs  []line
	conts []line
	open  []int // scopes that are open
	ended map[int]bool
	insts []int
	of    map[int]line // makes
	next  int
	scope int
}

func (o *office) add(l line) { o.trace = append(o.trace, l) }

func blank(ev string) line { return line{ev: ev, scope: -1, in: -1, owner: -1, to: -1} }

func (o *office) chance(percent int) bool { return o.IntN(100) < percent }

func pick[T any](o *office, list []T) T { return list[o.IntN(len(list))] }

// wiring registers. Without needs, the meaning of the places in a make's list is unknown.
func (o *office) wiring(needs bool) {
	dups := []string{"", "", "first", "primary", "error"}
	one := blank("container")
	one.id, one.dup = 1, pick(o, dups)
	o.conts = append(o.conts, one)
	if o.chance(40) {
		c := blank("container")
		c.id, c.in, c.scope, c.dup = 2, 1, 901, pick(o, dups)
		o.conts = append(o.conts, c)
	}
	if o.chance(30) {
		c := blank("container")
		c.id, c.scope, c.dup = 3, 902, pick(o, dups)
		o.conts = append(o.conts, c)
	}
	for _, c := range o.conts {
		o.add(c)
	}
	for n := range 3 + o.IntN(9) {
		r := blank("register")
		r.id, r.service, r.impl = n+1, fmt.Sprintf("S%d", o.IntN(5)), fmt.Sprintf("I%d", n)
		r.life = pick(o, []string{"singleton", "singleton", "scoped", "scoped", "transient", "transient", "per-consumer", "external"})
		r.container = pick(o, o.conts).id
		if o.chance(20) {
			r.key = pick(o, []string{"k1", "k2"})
		}
		r.primary, r.local, r.disposable = o.chance(20), o.chance(5), o.chance(50)
		if n > 0 {
			other := pick(o, o.regs)
			switch o.IntN(12) {
			case 0, 1:
				r.wraps, r.service, r.key, r.container = other.id, other.service, other.key, other.container
			case 2:
				r.alias, r.impl = other.id, ""
			case 3:
				r.proxy, r.life = other.id, "transient"
			case 4:
				r.also = fmt.Sprintf("S%d", o.IntN(5))
			}
		}
		for range o.IntN(4) {
			if !needs {
				break
			}
			r.needs = append(r.needs, need{fmt.Sprintf("S%d", o.IntN(5)), pick(o, []string{"", "", "", "k1"}), o.chance(15), o.chance(10)})
		}
		o.regs = append(o.regs, r)
		o.add(r)
	}
}

func (o *office) roots() []int {
	list := []int{0}
	for _, c := range o.conts {
		if c.scope >= 0 {
			list = append(list, c.scope)
		}
	}
	return list
}

// build makes an instance of a registration, or returns one that there is.
func (o *office) build(r line, scope, depth int) int {
	if !o.chance(12) {
		for _, i := range slices.Backward(o.insts) {
			if m := o.of[i]; m.reg == r.id && (long(r.life) || r.life == "scoped" && m.scope == scope) {
				return i
			}
		}
	}
	m := blank("make")
	m.scope, m.reg = scope, r.id
	for range o.IntN(3) {
		if depth == 0 {
			break
		}
		dep := pick(o, o.regs)
		if dep.alias > 0 {
			continue
		}
		g := given{inst: o.build(dep, scope, depth-1)}
		switch o.IntN(12) {
		case 0:
			g.reading = true
		case 1:
			if other := pick(o, o.regs); other.proxy > 0 {
				g.via = other.id
			}
		case 2:
			g = given{list: []int{g.inst}}
		}
		m.with = append(m.with, g)
	}
	switch o.IntN(14) {
	case 0:
		m.by = "factory"
	case 1:
		m.by = "external"
	case 2:
		m.owner = pick(o, append(o.roots(), o.open...))
	case 3:
		m.by, m.reg, m.impl, m.disposable = "direct", 0, "D", o.chance(50)
	}
	o.next++
	m.id = o.next
	o.insts = append(o.insts, m.id)
	o.of[m.id] = m
	o.add(m)
	return m.id
}

func (o *office) work(steps int) {
	for range steps {
		if o.chance(2) {
			o.add(blank("gap"))
		}
		where := pick(o, append([]int{0}, append(o.open, o.open...)...))
		switch o.IntN(10) {
		case 0, 1:
			o.scope++
			l := blank("open")
			l.id, l.in = o.scope, pick(o, append(o.roots(), o.open...))
			if len(o.open) > 0 && o.chance(30) {
				l.within = pick(o, o.open)
			}
			o.open = append(o.open, l.id)
			o.add(l)
		case 2, 3, 4:
			r := pick(o, o.regs)
			if r.alias > 0 {
				continue
			}
			i := o.build(r, where, 2)
			if o.chance(50) {
				l := blank("give")
				l.id, l.scope, l.entry = i, where, "GET /pilots"
				o.add(l)
			}
		case 5, 6:
			if len(o.insts) < 2 {
				continue
			}
			i, to := pick(o, o.insts), pick(o, o.insts)
			if i == to {
				continue
			}
			l := blank("give")
			l.id, l.scope, l.to, l.how = i, where, to, pick(o, []string{"property", "method", "method", "locator"})
			o.add(l)
		case 7, 8:
			if len(o.insts) == 0 {
				continue
			}
			l := blank("use")
			l.id, l.scope = pick(o, o.insts), where
			if o.chance(60) {
				l.user = pick(o, o.insts)
			}
			o.add(l)
		case 9:
			if len(o.open) > 0 && o.chance(80) {
				o.close(o.IntN(len(o.open)))
			} else if len(o.insts) > 0 && o.chance(30) {
				o.drop(pick(o, o.insts), pick(o, []string{"dispose", "forget"}), "code", where)
			}
		}
	}
	for len(o.open) > 0 && o.chance(85) {
		o.close(o.IntN(len(o.open)))
	}
	if o.chance(70) {
		for _, i := range slices.Backward(slices.Clone(o.insts)) {
			if o.chance(80) && o.of[i].by != "external" {
				o.drop(i, "dispose", "container", 0)
			}
		}
		if o.chance(50) {
			l := blank("close")
			l.id = 0
			o.add(l)
		}
	}
	if o.chance(70) {
		o.add(blank("bye"))
	}
}

// drop disposes or forgets an instance, once.
func (o *office) drop(i int, how, by string, scope int) {
	if o.ended[i] {
		return
	}
	o.ended[i] = true
	l := blank(how)
	l.id, l.by, l.scope = i, by, scope
	o.add(l)
	o.insts = slices.DeleteFunc(o.insts, func(x int) bool { return x == i })
}

// close ends a scope without open ones inside it: its instances are disposed, the latest first, one in ten not.
func (o *office) close(n int) {
	scope := o.open[n]
	for _, l := range o.trace {
		if l.ev == "open" && l.in == scope && slices.Contains(o.open, l.id) {
			return
		}
	}
	for _, i := range slices.Backward(slices.Clone(o.insts)) {
		m := o.of[i]
		home := m.scope
		if m.owner >= 0 {
			home = m.owner
		} else if m.reg == 0 || long(o.regs[m.reg-1].life) {
			continue
		}
		if home == scope && o.chance(90) {
			o.drop(i, "dispose", "container", scope)
		}
	}
	l := blank("close")
	l.id = scope
	o.add(l)
	o.open = slices.Delete(o.open, n, n+1)
}

func newOffice(seed uint64, wiring bool) []line {
	o := &office{Rand: rand.New(rand.NewPCG(seed, 13)), ended: map[int]bool{}, of: map[int]line{}}
	o.wiring(wiring)
	if !wiring {
		o.work(15 + o.IntN(60))
	}
	return o.trace
}

// sound reports whether all that a trace mentions is in it, before it is mentioned, and what registers is all there.
func sound(trace []line) bool {
	made, opened, regs, conts := map[int]bool{}, map[int]bool{0: true, -1: true}, map[int]bool{0: true}, map[int]bool{0: true, -1: true, 1: true}
	for n := range trace {
		l := &trace[n]
		ok := true
		switch l.ev {
		case "container":
			ok = conts[l.in]
			conts[l.id], opened[l.scope] = true, true
		case "register":
			ok = regs[l.wraps] && regs[l.alias] && regs[l.proxy] && conts[l.container]
			regs[l.id] = true
		case "open":
			ok = opened[l.in] && opened[l.within]
			opened[l.id] = true
		case "make":
			for _, g := range l.with {
				ok = ok && (g.inst == 0 || made[g.inst]) && regs[g.via]
				for _, i := range g.list {
					ok = ok && made[i]
				}
			}
			ok = ok && opened[l.scope] && opened[l.owner] && regs[l.reg]
			made[l.id] = true
		case "give", "use", "dispose", "forget":
			ok = made[l.id] && opened[l.scope] && (l.to < 0 || made[l.to]) && (l.user == 0 || made[l.user])
		case "close":
			ok = opened[l.id]
		}
		if !ok {
			return false
		}
	}
	return true
}

// shrink leaves out lines for as long as the two readings still disagree.
func shrink(trace []line, disagree func([]line) bool) []line {
	for again := true; again; {
		again = false
		for n := len(trace) - 1; n >= 0; n-- {
			less := slices.Delete(slices.Clone(trace), n, n+1)
			if sound(less) && disagree(less) {
				trace, again = less, true
			}
		}
		for n := range trace {
			for k := len(trace[n].with) - 1; k >= 0; k-- {
				less := slices.Clone(trace)
				less[n].with = slices.Delete(slices.Clone(trace[n].with), k, k+1)
				if disagree(less) {
					trace, again = less, true
				}
			}
		}
	}
	return trace
}

// agree compares the two readings of one random trace.
func agree(t *testing.T, seed uint64) {
	for _, wiring := range []bool{false, true} {
		readings := func(trace []line) (verdicts, verdicts) {
			a, b := fast(t, render(trace)), read(trace).reading(wiring)
			maps.DeleteFunc(a, func(k string, _ int) bool { return strings.HasPrefix(k, "captive/declared") != wiring })
			return a, b
		}
		trace := newOffice(seed, wiring)
		if a, b := readings(trace); maps.Equal(a, b) {
			continue
		}
		trace = shrink(trace, func(less []line) bool {
			a, b := readings(less)
			return !maps.Equal(a, b)
		})
		a, b := readings(trace)
		t.Errorf("seed %d, read twice:\n%s\nfast:\n%s\nslow:\n%s", seed, render(trace), a, b)
	}
}

// together compares the findings of two streams in one file with those of each.
func together(t *testing.T, seed uint64) {
	a, b := newOffice(seed, false), newOffice(seed+1, false)
	for n := range b {
		b[n].impl = strings.ReplaceAll(b[n].impl, "I", "J")
	}
	want := fast(t, stream("a", a))
	for k, n := range fast(t, stream("b", b)) {
		want[k] += n
	}
	got := fast(t, stream("a", a)+stream("b", b))
	for _, v := range []verdicts{want, got} {
		maps.DeleteFunc(v, func(k string, _ int) bool { return strings.HasPrefix(k, "captive/declared") })
	}
	require.Equal(t, want, got, "seed %d", seed)
}

// TestSlowReading compares the two readings on some hundred random traces; FuzzSlowReading on as many as there is time for.
func TestSlowReading(t *testing.T) {
	for seed := range uint64(800) {
		agree(t, seed)
		if seed%8 == 0 {
			together(t, seed)
		}
	}
}

func FuzzSlowReading(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(agree)
}
