package contract

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/patterns"
	"keenlantern.example/internal/core/views"
)

// Status is what became of a clause.
type Status string

// What became of it.
const (
	Kept    Status = "kept"
	Broken  Status = "broken"
	NotSeen Status = "not seen" // the recording does not show it
)

// ReportFormat names the shape of a Report.
const ReportFormat = "lantern-contract-report/1"

// Report is a recording held against a contract.
type Report struct {
	Format      string       `json:"format"`
	Contract    string       `json:"contract"` // the file's name
	Application string       `json:"application"`
	Recording   string       `json:"recording"`
	Kept        int          `json:"kept"`
	Broken      int          `json:"broken"`
	NotSeen     int          `json:"not_seen"`
	Clauses     []Judgement  `json:"clauses"` // broken ones first, then those not seen
	Accepted    []Acceptance `json:"accepted"`
	Caveats     []string     `json:"caveats"` // what of the recording is not whole
}

// Judgement is what became of one clause.
type Judgement struct {
	ID      string           `json:"id"` // the same for the same clause in any run
	Kind    Kind             `json:"kind"`
	Says    string           `json:"says"` // the clause in words
	Line    int              `json:"line"` // in the contract's file
	Status  Status           `json:"status"`
	Why     string           `json:"why"`
	Finding *finding.Finding `json:"finding"` // what a broken one was broken by, nil otherwise
}

// Acceptance is what became of a finding that the contract accepts.
type Acceptance struct {
	Finding string `json:"finding"`
	Reason  string `json:"reason"`
	Until   string `json:"until"` // its last day
	Line    int    `json:"line"`
	Status  string `json:"status"` // "accepted", "expired": it counts again, or "gone": nothing of that id was found
	Title   string `json:"title"`  // of the finding, "" where it is gone
}

// Passes reports whether nothing is broken and, where strict, nothing was left unseen.
func (r *Report) Passes(strict bool) bool { return r.Broken == 0 && (!strict || r.NotSeen == 0) }

// Findings returns what broke clauses.
func (r *Report) Findings() []*finding.Finding {
	out := []*finding.Finding{}
	for n := range r.Clauses {
		if f := r.Clauses[n].Finding; f != nil {
			out = append(out, f)
		}
	}
	return out
}

// Check holds a recording against the contract. It returns an error where the contract is for another application or environment,
// or where a name in it could mean several things.
func Check(c *Contract, src *views.Source, now time.Time) (*Report, error) {
	s := src.State()
	if c.Application != s.App {
		return nil, fmt.Errorf("%s is for the application %q, and this is a recording of %q", c.Name, c.Application, s.App)
	}
	if !In(c.Environments, s.Environment) {
		return nil, fmt.Errorf("%s is for the environment %s, and this is a recording of %q", c.Name, list(quoted(c.Environments), "or"), s.Environment)
	}
	j := newCourt(c, src)
	r := &Report{
		Format: ReportFormat, Contract: c.Name, Application: c.Application, Recording: src.Recording, Clauses: []Judgement{},
		Accepted: []Acceptance{}, Caveats: caveats(src),
	}
	for n := range c.Clauses {
		one := j.judge(&c.Clauses[n])
		switch one.Status {
		case Kept:
			r.Kept++
		case Broken:
			r.Broken++
		default:
			r.NotSeen++
		}
		r.Clauses = append(r.Clauses, one)
	}
	if len(j.unclear) > 0 {
		return nil, errors.Join(j.unclear...)
	}
	rank := map[Status]int{Broken: 0, NotSeen: 1, Kept: 2}
	slices.SortStableFunc(r.Clauses, func(a, b Judgement) int { return cmp.Compare(rank[a.Status], rank[b.Status]) })
	r.Accepted = c.acceptances(src.Result, now)
	return r, nil
}

func quoted(words []string) []string {
	out := make([]string, 0, len(words))
	for _, w := range words {
		out = append(out, fmt.Sprintf("%q", w))
	}
	return out
}

// caveats returns what a judgement may have missed.
func caveats(src *views.Source) []string {
	out := []string{}
	running, lost, cut, sampled := 0, int64(0), 0, 1.0
	for n := range src.Result.Streams {
		i := &src.Result.Streams[n]
		if !i.Ended && !i.Health.CutOff {
			running++
		}
		lost += i.Health.Lost + i.Health.Unread
		if i.Health.CutOff {
			cut++
		}
		sampled = min(sampled, i.Health.Sampled)
	}
	if running > 0 {
		out = append(out, "The recording is still running: what is kept so far may be broken yet.")
	}
	if sampled < 1 {
		out = append(out, fmt.Sprintf("Only %.3g %% of the scopes were recorded: limits hold for those.", 100*sampled))
	}
	if lost > 0 {
		out = append(out, finding.Count(lost, "event is", "events are")+" missing from the recording.")
	}
	if cut > 0 {
		out = append(out, finding.Count(int64(cut), "stream was", "streams were")+" cut off: what would have been disposed at the end is not seen.")
	}
	return out
}

// acceptances returns what became of the accepted findings.
func (c *Contract) acceptances(r *engine.Result, now time.Time) []Acceptance {
	out := []Acceptance{}
	found := make(map[string]*finding.Finding, len(r.Findings))
	for _, f := range r.Findings {
		found[f.ID] = f
	}
	for _, a := range c.Accepted {
		one := Acceptance{Finding: a.Finding, Reason: a.Reason, Line: a.Line, Until: a.Until.AddDate(0, 0, -1).Format(time.DateOnly), Status: "gone"}
		if f := found[a.Finding]; f != nil {
			one.Status, one.Title = "accepted", f.Title
			if !now.Before(a.Until) {
				one.Status = "expired"
			}
		}
		out = append(out, one)
	}
	return out
}

// Accepts returns the ids of the findings that are accepted now, with the reasons.
func (c *Contract) Accepts(now time.Time) map[string]string {
	out := map[string]string{}
	for _, a := range c.Accepted {
		if now.Before(a.Until) {
			out[a.Finding] = a.Reason
		}
	}
	return out
}

// court judges the clauses of a contract by one recording.
type court struct {
	src     *views.Source
	s       *derive.State
	file    string
	unclear []error
	known   map[string][]string         // the names there are: of services, of implementations, of consumers
	meant   map[pattern]map[string]bool // which of them a pattern means
	offered map[string][]int            // the registrations of each service
	names   map[string]string           // short ones
	work    int64                       // steps of it
	built   map[evidence]*finding.Example
}

type pattern struct{ kind, text string }

// maxWork bounds how many steps judging takes in all: some seconds.
const maxWork = 1_500_000_000

// maxLooked is the number of instances whose lines are searched for; each search reads a chunk of the recording. Later broken clauses are
// reported without examples.
const maxLooked = 1000

// maxBreaks is the number of different cases of one clause that are kept.
const maxBreaks = 1000

// stepsBroken is about what noting a case takes.
const stepsBroken = 2000

// stepsEach is about what looking at a registration or hand-out takes, in steps.
const stepsEach = 40

func newCourt(c *Contract, src *views.Source) *court {
	j := &court{src: src, s: src.State(), file: c.Name, names: patterns.Shorten(allNames(src.State())), known: map[string][]string{}, offered: map[string][]int{}, meant: map[pattern]map[string]bool{}, built: map[evidence]*finding.Example{}}
	there := map[pattern]bool{}
	add := func(kind, name string) {
		if k := (pattern{kind, name}); name != "" && !there[k] {
			there[k] = true
			j.known[kind] = append(j.known[kind], name)
		}
	}
	for n := range j.s.Registrations {
		r := &j.s.Registrations[n]
		add("service", r.Service)
		j.offered[r.Service] = append(j.offered[r.Service], n)
		add("implementation", r.Impl)
		add("consumer", r.Impl)
		if r.Impl == "" {
			add("consumer", r.Service)
		}
		for _, also := range r.Also {
			add("service", also.Service)
			j.offered[also.Service] = append(j.offered[also.Service], n)
		}
	}
	for n := range j.s.Handouts {
		h := &j.s.Handouts[n]
		add("service", h.Asked.Service)
		add("implementation", h.Impl)
		add("consumer", h.Direct)
		for _, chain := range h.Chains {
			for _, l := range chain.Layers {
				add("implementation", l.Impl)
			}
		}
	}
	return j
}

// affords counts steps of work. If there are too many, that is reported once, and no further work is done.
func (j *court) affords(c *Clause, steps int64) bool {
	before := j.work
	j.work += steps
	if before <= maxWork && j.work > maxWork {
		j.unclear = append(j.unclear, &Mistake{File: j.file, Line: c.Line, Column: c.Column, What: "holding this recording against the contract takes too long from here on; write fewer clauses, or fewer names with *", rest: true})
	}
	return j.work <= maxWork
}

// compared is how many steps it takes to compare a pattern with a name.
func compared(pattern, name string) int64 {
	if strings.Contains(pattern, "*") {
		return 4 * int64(len(pattern)+1) * int64(len(name)+1)
	}
	return 8 + int64(min(len(pattern), len(name)))/16 // letters of whole words are compared many at once
}

func (j *court) fits(c *Clause, pattern, name string) bool {
	return j.affords(c, compared(pattern, name)) && patterns.Fits(pattern, name)
}

// short is a name as people read it.
func (j *court) short(name string) string { return cmp.Or(j.names[name], name) }

// is reports whether a pattern means a name of some kind.
func (j *court) is(c *Clause, kind, text, name string) bool { return j.meaning(c, kind, text)[name] }

// meaning returns the names of some kind that a pattern means. A pattern that could mean several is reported once.
func (j *court) meaning(c *Clause, kind, text string) map[string]bool {
	k := pattern{kind, text}
	meant, ok := j.meant[k]
	if !ok {
		var names []string
		for _, one := range j.known[kind] {
			if j.affords(c, compared(text, one)) {
				names = append(names, one)
			}
		}
		found, clear := patterns.Among(text, names)
		if !clear {
			j.unclear = append(j.unclear, &Mistake{File: j.file, Line: c.Line, Column: c.Column, What: fmt.Sprintf("%q could be %s; write more of the name", text, list(found[:min(len(found), 6)], "or"))})
		}
		meant = make(map[string]bool, len(found))
		for _, one := range found {
			meant[one] = true
		}
		j.meant[k] = meant
	}
	return meant
}

func (j *court) key(pattern, key *string) bool {
	switch {
	case pattern == nil:
		return key == nil
	case key == nil:
		return *pattern == "*"
	}
	return patterns.Glob(*pattern, *key)
}

// registrations returns those that a clause is about, in order.
func (j *court) registrations(c *Clause) []int {
	var out []int
	for service := range j.meaning(c, "service", c.Service) {
		for _, n := range j.offered[service] {
			r := &j.s.Registrations[n]
			named := service == r.Service && j.key(c.Key, r.Key)
			for _, also := range r.Also {
				named = named || service == also.Service && j.key(c.Key, also.Key)
			}
			if named && r.Alias == derive.None && (c.Implementation == "" || j.is(c, "implementation", c.Implementation, r.Impl)) {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// judge returns what became of one clause.
func (j *court) judge(c *Clause) Judgement {
	one := Judgement{Kind: c.Kind, Says: c.Says(), Line: c.Line, Status: Kept}
	one.ID = c.id()
	v := &verdict{j: j, c: c}
	if !j.affords(c, stepsEach*int64(len(j.s.Registrations)+len(j.s.Handouts))) {
		one.Status = NotSeen
		return one
	}
	map[Kind]func(*verdict){
		Scopes: (*verdict).scopes, Wiring: (*verdict).wiring, Lifetimes: (*verdict).lifetimes, Disposal: (*verdict).disposal,
		Limits: (*verdict).limits, Never: (*verdict).never,
	}[c.Kind](v)
	one.Status, one.Why = v.status(), v.why
	if len(v.breaks) > 0 {
		one.Why = v.cases()
		one.Finding = v.finding(one.Says, one.Why)
	}
	return one
}

// id returns what a clause, and the finding that it was broken, is known by.
func (c *Clause) id() string {
	return finding.Identity{Rule: "contract/" + string(c.Kind), Subject: finding.Ref{Service: c.Service, Key: c.Key}, Site: c.Says()}.ID()
}

// verdict gathers what speaks for and against a clause.
type verdict struct {
	j       *court
	c       *Clause
	seen    int64 // times that it was seen to hold, or not to
	why     string
	breaks  []string        // what broke it, in words
	cited   map[string]bool // the texts in breaks
	subject *finding.Ref
	holder  *finding.Ref
	times   int64
	insts   []evidence
	at      []derive.InScope
}

// evidence is an instance that broke a clause.
type evidence struct {
	stream int
	inst   uint64
}

func (v *verdict) status() Status {
	switch {
	case len(v.breaks) > 0:
		return Broken
	case v.seen == 0:
		return NotSeen
	}
	return Kept
}

func (v *verdict) cases() string {
	text := strings.Join(v.breaks[:min(3, len(v.breaks))], "; ")
	if more := len(v.breaks) - 3; more > 0 {
		text += "; and " + finding.Count(int64(more), "other case", "other cases")
	}
	return text + "."
}

// broken notes one thing that broke the clause.
func (v *verdict) broken(subject, holder *finding.Ref, times int64, format string, args ...any) {
	if v.times += times; !v.j.affords(v.c, stepsBroken) {
		return
	}
	if text := fmt.Sprintf(format, args...); !v.cited[text] {
		if v.cited == nil {
			v.cited = map[string]bool{}
		}
		if len(v.cited) < maxBreaks {
			v.cited[text] = true
			v.breaks = append(v.breaks, text)
		}
	}
	if v.subject == nil {
		v.subject, v.holder = subject, holder
	}
}

// finding is what reports show of a broken clause.
func (v *verdict) finding(says, why string) *finding.Finding {
	f := &finding.Finding{
		Rule: "contract/" + string(v.c.Kind), Severity: finding.Error, Basis: finding.Observed, Path: []finding.Ref{},
		Title: "Broken: " + says, Why: upper(why), Counts: map[string]int64{}, Examples: []finding.Example{},
		Fix: fmt.Sprintf("Wire it as agreed, or change the agreement in %s, line %d.", v.j.file, v.c.Line),
	}
	f.Subject = finding.Ref{Service: cmp.Or(v.c.Service, v.c.Implementation, v.c.Scope), Key: v.c.Key}
	if v.subject != nil {
		f.Subject, f.Holder = *v.subject, v.holder
	}
	if v.times > 0 {
		f.Counts["instances"] = v.times
	}
	f.ID = v.c.id()
	for _, e := range v.insts {
		if len(f.Examples) == finding.MaxExamples {
			break
		}
		if x, ok := v.j.example(e); ok {
			f.Examples = append(f.Examples, x)
		}
	}
	for _, in := range v.at {
		if len(f.Examples) < finding.MaxExamples && in.Scope != 0 {
			scope := in.Scope
			f.Examples = append(f.Examples, finding.Example{Stream: in.Stream, Scope: &scope, ScopeName: v.c.Scope, Instances: []uint64{}, Line: in.Line})
		}
	}
	if start, err := time.Parse(time.RFC3339, v.j.s.Start); err == nil {
		f.First, f.Last = finding.Time(start), finding.Time(start)
		for n, x := range f.Examples {
			at := finding.Time(start.Add(time.Duration(x.T)))
			if n == 0 || at < f.First {
				f.First = at
			}
			f.Last = max(f.Last, at)
		}
	}
	return f
}

func upper(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// example finds the line on which an instance was built.
func (j *court) example(e evidence) (finding.Example, bool) {
	x, known := j.built[e]
	if !known && len(j.built) < maxLooked {
		if found, ok := j.look(e); ok {
			x = &found
		}
		j.built[e] = x
	}
	if x == nil {
		return finding.Example{}, false
	}
	return *x, true
}

func (j *court) look(e evidence) (finding.Example, bool) {
	i, err := views.TellInstance(j.src, e.stream, e.inst)
	if err != nil {
		return finding.Example{}, false // it was built too long ago to be found
	}
	stream := &j.src.Streams[e.stream]
	x := finding.Example{Instances: []uint64{e.inst}, Line: i.Line, Stream: stream.Head.Stream}
	if i.Scope != 0 {
		x.Scope = &i.Scope
	}
	if at, err := time.Parse(time.RFC3339, i.At); err == nil {
		if start, err := time.Parse(time.RFC3339, stream.Head.Start); err == nil {
			x.T = at.Sub(start).Nanoseconds()
		}
	}
	return x, true
}
