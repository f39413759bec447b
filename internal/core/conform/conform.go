// Package conform looks at a trace as the work of a recorder: what is broken in it, line by line, and what it does not
// contain, so that a recorder's author sees what to fix and which rules stay silent meanwhile.
//
// What comes in: lines. What goes out: a Report. It uses docs/trace-format.md and knows nothing of mistakes in
// applications. Its memory grows with the ids of a trace, up to a bound.
package conform

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

// Format names the shape of a Report.
const Format = "lantern-conformance/1"

// Report is what was seen of one trace.
type Report struct {
	Format   string    `json:"format"`
	Lines    int64     `json:"lines"`
	Streams  int       `json:"streams"`
	Conforms bool      `json:"conforms"` // nothing is broken
	Problems []Problem `json:"problems"` // the first of each kind, by line
	More     int64     `json:"more"`     // problems that are not listed
	Told     []Told    `json:"told"`
	Silent   []string  `json:"silent"` // rules that stay silent, since hello.sees leaves out what they need
}

// Problem is something wrong on one line.
type Problem struct {
	Line   int64  `json:"line"`
	Stream string `json:"stream"`
	Broken bool   `json:"broken"` // against the format; otherwise doubtful
	Kind   string `json:"kind"`
	What   string `json:"what"`
}

// Told is how often an optional field was written.
type Told struct {
	What  string `json:"what"`
	Have  int64  `json:"have"`
	Of    int64  `json:"of"`
	Means string `json:"means"` // what is not seen where it is missing
}

// The bounds.
const (
	maxOfKind = 5   // problems of one kind that are listed
	maxIDs    = 4e6 // ids of one kind that are kept in one stream
)

// Check reads a whole trace, plain or compressed. An error is the input's own.
func Check(in io.Reader) (*Report, error) {
	plain, err := reader.Decompress(in)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	c := &checker{report: &Report{Format: Format, Problems: []Problem{}, Silent: []string{}}, kinds: map[string]int{}}
	for r := reader.New(plain, reader.Options{}); ; {
		line, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("read line %d: %w", line.Number+1, err)
		}
		c.line(line)
	}
	c.endStream()
	if c.report.Streams == 0 {
		c.broken(0, "hello", "there is no hello: every stream starts with one")
	}
	c.report.Conforms = !slices.ContainsFunc(c.report.Problems, func(p Problem) bool { return p.Broken })
	c.report.Told = c.told.list()
	slices.SortStableFunc(c.report.Problems, func(a, b Problem) int { return int(a.Line - b.Line) })
	return c.report, nil
}

type checker struct {
	report *Report
	kinds  map[string]int
	told   told
	s      *stream
}

type made struct {
	reg      event.RegID
	line     int64
	disposed bool
	gone     bool
	lastT    int64
	state    string
}

type scope struct {
	line           int64
	opened, closed bool
	t              int64
	mentioned      int64
}

type stream struct {
	name   string
	sees   []string
	said   bool // sees was given
	ended  bool
	lines  int64
	latest int64 // t
	insts  map[event.InstID]*made
	scopes map[event.ScopeID]*scope
	regs   map[event.RegID]int64
	seen   map[event.RegID]bool   // those whose calls are seen
	asked  map[event.RegID]int64  // mentioned, first line
	kept   map[event.InstID]int64 // mentioned in with, first line
	full   bool
	uses   int64
}

func (c *checker) problem(line int64, broken bool, kind, format string, args ...any) {
	c.kinds[kind]++
	if c.kinds[kind] > maxOfKind {
		c.report.More++
		return
	}
	p := Problem{Line: line, Broken: broken, Kind: kind, What: fmt.Sprintf(format, args...)}
	if c.s != nil {
		p.Stream = c.s.name
	}
	c.report.Problems = append(c.report.Problems, p)
}

func (c *checker) broken(line int64, kind, format string, args ...any) {
	c.problem(line, true, kind, format, args...)
}

func (c *checker) doubt(line int64, kind, format string, args ...any) {
	c.problem(line, false, kind, format, args...)
}

func (c *checker) line(l reader.Line) {
	c.report.Lines++
	switch {
	case l.Refused != "":
		c.broken(l.Number, "unreadable", "%s", l.Refused)
		return
	case l.Unknown:
		c.doubt(l.Number, "unknown-kind", "an event of a kind that lantern/1 does not have: readers count it and go on")
		return
	}
	e := l.Event
	if e.Kind == event.Hello {
		c.endStream()
		c.begin(e)
		return
	}
	if c.s == nil {
		c.broken(e.Line, "hello", "%s before any hello: a stream starts with one", e.Kind)
		return
	}
	if c.s.ended {
		c.broken(e.Line, "after-bye", "%s after the stream's bye", e.Kind)
	}
	c.s.lines++
	c.time(e)
	c.words(e)
	c.event(e)
}

func (c *checker) begin(e *event.Event) {
	c.report.Streams++
	c.s = &stream{
		name: e.Stream, sees: slices.Clone(e.Sees), said: e.Has.Has(event.FSees), insts: map[event.InstID]*made{}, scopes: map[event.ScopeID]*scope{},
		regs: map[event.RegID]int64{}, seen: map[event.RegID]bool{}, asked: map[event.RegID]int64{}, kept: map[event.InstID]int64{},
	}
	c.s.scopes[0] = &scope{opened: true}
	var sight ledger.Sight
	names := ledger.Sight(ledger.SeesAll).Names()
	for _, s := range e.Sees {
		if n := slices.Index(names, s); n >= 0 {
			sight |= 1 << n
		} else {
			c.doubt(e.Line, "sees", "sees has the unknown word %q: it knows %s", s, strings.Join(names, ", "))
		}
	}
	if c.s.said {
		for _, r := range rules.All {
			if r.Needs&^sight != 0 && !slices.Contains(c.report.Silent, r.ID) {
				c.report.Silent = append(c.report.Silent, r.ID)
			}
		}
	}
	if e.T != 0 {
		c.doubt(e.Line, "hello-t", "hello has t %d; times count from start, so it is 0", e.T)
	}
	c.told.hello.add(e.Has.Has(event.FVersion))
}

// time checks a line's times. Lines may come a little out of order, but not from another clock.
func (c *checker) time(e *event.Event) {
	const far = 60_000_000_000
	if e.T < c.s.latest-far {
		c.doubt(e.Line, "time", "t is %d s before that of an earlier line: is it in ns since start?", (c.s.latest-e.T)/1_000_000_000)
	}
	c.s.latest = max(c.s.latest, e.T)
	if e.NS > 0 && e.T >= 0 && e.NS > e.T {
		c.doubt(e.Line, "ns", "it took %d ns and ended %d ns after the start: ns ends at t", e.NS, e.T)
	}
}

// words doubts a word that the format gives no meaning.
func (c *checker) words(e *event.Event) {
	for f := range event.AllFields {
		words := event.Words(e.Kind, f)
		if words == nil || !e.Has.Has(f) {
			continue
		}
		value, one := e.Text(f)
		if !one || value == "" || slices.Contains(words, value) {
			continue
		}
		name := f.String()
		if f == event.FBy {
			name = e.Kind.String() + " by"
		}
		c.doubt(e.Line, "word", "%s %q has no meaning to rules: it knows %s", name, value, strings.Join(words, ", "))
	}
}

func (c *checker) event(e *event.Event) {
	s := c.s
	switch e.Kind {
	case event.Register:
		s.regs[e.Reg] = e.Line
		if slices.Contains(e.Sees, "use") {
			s.seen[e.Reg] = true
		}
		c.told.register(e)
	case event.Container:
		if e.Has.Has(event.FScope) {
			s.scopes[e.Scope] = &scope{line: e.Line, opened: true, t: e.T}
		}
	case event.Open:
		c.open(e)
	case event.Close:
		c.close(e)
	case event.Make:
		c.make(e)
	case event.Give:
		c.about(e, e.Inst)
		if e.Has.Has(event.FTo) {
			c.about(e, e.To)
		}
		c.told.gives++
		c.told.asker.add(e.Has.Has(event.FTo) || e.Entry != "")
	case event.Use:
		m := c.about(e, e.Inst)
		if e.Has.Has(event.FBy) {
			c.about(e, e.User)
		}
		s.uses++
		c.told.uses++
		c.told.user.add(e.Has.Has(event.FBy))
		if s.said && !slices.Contains(s.sees, "use") && (m == nil || !s.seen[m.reg]) {
			c.doubt(e.Line, "sees", "a use, and neither hello.sees nor the registration's has use: rules then do not count on them")
		}
	case event.Dispose:
		c.dispose(e)
	case event.Forget:
		if e.Has.Has(event.FInst) {
			if m := c.about(e, e.Inst); m != nil {
				if m.gone {
					c.broken(e.Line, "twice", "instance %d was forgotten before", e.Inst)
				}
				m.gone = true
			}
		}
	case event.Fail:
		c.told.fails++
	case event.Gap:
		c.doubt(e.Line, "gap", "%d events were lost: %s", e.Lost, e.Why)
	case event.Bye:
		s.ended = true
	}
	if e.Has.Has(event.FScope) && e.Kind != event.Open && e.Kind != event.Close && e.Kind != event.Container {
		c.within(e)
	}
}

// within checks the scope that a line names.
func (c *checker) within(e *event.Event) {
	sc := c.s.scopes[e.Scope]
	if sc == nil {
		if len(c.s.scopes) < maxIDs {
			c.s.scopes[e.Scope] = &scope{mentioned: e.Line}
		}
		return
	}
	if sc.closed && e.T > sc.t && (e.Kind == event.Make || e.Kind == event.Give) {
		c.doubt(e.Line, "closed-scope", "%s in scope %d, which closed before; an application may do so, a recorder that mixes its scopes up does too", e.Kind, e.Scope)
	}
}

func (c *checker) open(e *event.Event) {
	c.told.scopeName.add(e.Name != "")
	c.told.scopeKind.add(e.ScopeKind != "")
	sc := c.s.scopes[e.Scope]
	if sc == nil {
		sc = &scope{}
		if len(c.s.scopes) < maxIDs {
			c.s.scopes[e.Scope] = sc
		}
	}
	if sc.opened && e.Scope != 0 {
		c.broken(e.Line, "twice", "scope %d was opened before, on line %d: ids are unique in a stream", e.Scope, sc.line)
	}
	sc.opened, sc.line, sc.t, sc.mentioned = true, e.Line, e.T, 0
	if e.Has.Has(event.FIn) {
		if e.InScope == e.Scope {
			c.broken(e.Line, "itself", "scope %d lies in itself", e.Scope)
		} else if c.s.scopes[e.InScope] == nil && len(c.s.scopes) < maxIDs {
			c.s.scopes[e.InScope] = &scope{mentioned: e.Line}
		}
	}
}

func (c *checker) close(e *event.Event) {
	sc := c.s.scopes[e.Scope]
	switch {
	case sc == nil: // its open may come late
		if len(c.s.scopes) < maxIDs {
			c.s.scopes[e.Scope] = &scope{mentioned: e.Line, closed: true, t: e.T}
		}
	case sc.closed:
		c.broken(e.Line, "twice", "scope %d was closed before", e.Scope)
	default:
		sc.closed, sc.t = true, e.T
	}
}

func (c *checker) make(e *event.Event) {
	s := c.s
	c.told.make(e, s)
	if m := s.insts[e.Inst]; m != nil && m.line > 0 {
		c.broken(e.Line, "twice", "instance %d was made before, on line %d: ids are unique in a stream", e.Inst, m.line)
		return
	}
	if len(s.insts) < maxIDs {
		s.insts[e.Inst] = &made{line: e.Line, reg: e.Reg}
	} else {
		s.full = true
	}
	delete(s.kept, e.Inst)
	if e.Has.Has(event.FReg) && s.regs[e.Reg] == 0 && s.asked[e.Reg] == 0 {
		s.asked[e.Reg] = e.Line
	}
	for _, w := range e.With {
		if w.Inst == e.Inst {
			c.broken(e.Line, "itself", "instance %d is given itself", e.Inst)
		} else if w.Inst != 0 && s.insts[w.Inst] == nil && s.kept[w.Inst] == 0 && len(s.kept) < maxIDs {
			s.kept[w.Inst] = e.Line
		}
	}
}

// about checks that an instance is known when a line is about it. Lines may come out of order, so this is a doubt until
// the end of the stream.
func (c *checker) about(e *event.Event, inst event.InstID) *made {
	m := c.s.insts[inst]
	if m == nil && !c.s.full && c.s.kept[inst] == 0 && len(c.s.kept) < maxIDs {
		c.s.kept[inst] = e.Line
	}
	return m
}

func (c *checker) dispose(e *event.Event) {
	c.told.disposals++
	m := c.about(e, e.Inst)
	if m == nil {
		return
	}
	state := e.State
	if state == "" {
		state = "done"
	}
	if m.state == state && m.lastT == e.T && m.disposed {
		c.broken(e.Line, "twice", "the same disposal of instance %d was written before", e.Inst)
	}
	m.state, m.lastT = state, e.T
	m.disposed = m.disposed || state == "done"
}

// endStream checks what a stream's end leaves open.
func (c *checker) endStream() {
	s := c.s
	if s == nil {
		return
	}
	if !s.ended {
		c.doubt(0, "bye", "the stream ends without a bye: what was open is then not known to have been left")
	}
	for _, id := range sorted(s.kept) {
		c.broken(s.kept[id], "never-made", "instance %d is mentioned, and no line makes it", id)
	}
	for _, id := range sorted(s.asked) {
		if s.regs[id] == 0 {
			c.broken(s.asked[id], "never-registered", "registration %d is mentioned, and no line registers it", id)
		}
	}
	open := 0
	for _, id := range sorted(s.scopes) {
		sc := s.scopes[id]
		if !sc.opened {
			c.broken(sc.mentioned, "never-opened", "scope %d is mentioned, and no line opens it", id)
		} else if !sc.closed && id != 0 {
			open++
		}
	}
	if s.ended && open > 0 {
		c.doubt(0, "left-open", "%s opened and not closed; an application may do so, a recorder that misses ends does too", finding.Count(int64(open), "scope was", "scopes were"))
	}
	if s.uses == 0 && s.lines > 0 && !s.said {
		c.doubt(0, "sees", "no use was seen, and hello.sees is absent, which means that everything is seen; list in it what is")
	}
	c.s = nil
}
