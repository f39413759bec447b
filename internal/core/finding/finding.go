// Package finding is what the core reports: a mistake, with what it is about and the evidence for it. It holds data and
// knows neither how a finding was found nor where it is kept or shown.
package finding

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"keenlantern.example/internal/core/ids"
)

// Severity is how bad a finding is.
type Severity uint8

// From the least to the worst.
const (
	Note Severity = iota + 1
	Warning
	Error
)

var severityNames = []string{"", "note", "warning", "error"}

// String returns the name as in reports; MarshalText the same.
func (s Severity) String() string { return severityNames[s] }

// MarshalText writes the severity's name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads a severity's name; one that is unknown becomes a Note.
func (s *Severity) UnmarshalText(b []byte) error {
	*s = Severity(max(int(Note), slices.Index(severityNames, string(b))))
	return nil
}

// Basis is what a finding rests on.
type Basis string

// Observed is seen in events; Declared follows from registrations alone.
const (
	Observed Basis = "observed"
	Declared Basis = "declared"
)

// Ref names a registration, or an implementation that has none, in the application's own terms.
type Ref struct {
	Service        string  `json:"service"`
	Key            *string `json:"key"` // nil: without a key
	Implementation *string `json:"implementation"`
	At             *string `json:"at"` // the place in the source, if known
	Lifetime       string  `json:"lifetime,omitempty"`
	Module         string  `json:"module,omitempty"`
}

// Name returns the service with its key, as titles have it.
func (r Ref) Name() string {
	if r.Key != nil {
		return r.Service + " [" + *r.Key + "]"
	}
	return r.Service
}

// Impl returns the implementation, "" if unknown.
func (r Ref) Impl() string { return text(r.Implementation) }

// Place returns the place in the source, "" if unknown.
func (r Ref) Place() string { return text(r.At) }

func text(p *string) string {
	if p == nil {
		return ""
	}
	return *p
}

// Time writes a moment as findings and views have it, in UTC with all nine digits of the nanoseconds, so that texts sort as times do.
func Time(t time.Time) string { return t.UTC().Format("2006-01-02T15:04:05.000000000Z07:00") }

// Text returns a pointer to s, or nil where s is empty.
func Text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Example is one occurrence.
type Example struct {
	Stream    string    `json:"stream,omitempty"`
	Scope     *uint64   `json:"scope"`
	ScopeName string    `json:"scope_name,omitempty"`
	Instances []uint64  `json:"instances"`
	Line      int64     `json:"line"`
	T         int64     `json:"t"` // ns since the stream's start
	Evidence  *Evidence `json:"evidence,omitempty"`
}

// Evidence is what is needed to draw one example in time. All times are ns since the stream's start.
type Evidence struct {
	From   int64   `json:"from"`
	To     int64   `json:"to"`
	Scopes []Band  `json:"scopes"`
	Lives  []Life  `json:"lives"`
	Keeps  []Keep  `json:"keeps"`
	Uses   []Touch `json:"uses"`
	More   int64   `json:"more"` // events on these lives that were left out
}

// Band is a scope's stretch of time; Closed is nil while it is open.
type Band struct {
	Scope  uint64  `json:"scope"`
	In     *uint64 `json:"in"`
	Name   string  `json:"name"`
	Kind   string  `json:"kind"`
	Opened int64   `json:"opened"`
	Closed *int64  `json:"closed"`
}

// Life is an instance's stretch of time; Ended is nil while it is alive. End is "disposed", "forgotten",
// "home closed" or "alive".
type Life struct {
	Instance uint64  `json:"instance"`
	Mark     string  `json:"mark"`
	Role     string  `json:"role"` // "holder", "path", "kept", "subject"
	Of       Ref     `json:"of"`
	Home     *uint64 `json:"home"`
	Made     int64   `json:"made"`
	Ended    *int64  `json:"ended"`
	End      string  `json:"end"`
}

// Keep records that one instance of the drawing keeps another, from a time on.
type Keep struct {
	Holder uint64 `json:"holder"`
	Kept   uint64 `json:"kept"`
	At     int64  `json:"at"`
}

// Touch is a use or a hand-out of one of the lives; After is true if it came after its end.
type Touch struct {
	Instance uint64  `json:"instance"`
	Kind     string  `json:"kind"` // "use", "give"
	By       string  `json:"by,omitempty"`
	Scope    *uint64 `json:"scope"`
	At       int64   `json:"at"`
	After    bool    `json:"after"`
}

// Finding is one mistake, however often it was seen.
type Finding struct {
	ID       string              `json:"id"`
	Rule     string              `json:"rule"`
	Severity Severity            `json:"severity"`
	Basis    Basis               `json:"basis"`
	Title    string              `json:"title"`
	Subject  Ref                 `json:"subject"`
	Holder   *Ref                `json:"holder"`
	Path     []Ref               `json:"path"`
	Counts   map[string]int64    `json:"counts"`
	Facts    map[string][]string `json:"facts,omitempty"` // names the counts cannot carry: who used it, an error's text
	First    string              `json:"first"`           // RFC 3339
	Last     string              `json:"last"`
	Examples []Example           `json:"examples"`
	Why      string              `json:"why"`
	Fix      string              `json:"fix"`
	Because  *string             `json:"because"`
	Caveat   *string             `json:"caveat"`
}

// MaxExamples is how many occurrences a finding shows.
const MaxExamples = 5

// maxFacts bounds each list of Facts.
const maxFacts = 12

// AddFact adds a name to one of the lists, once, as long as there is room.
func (f *Finding) AddFact(kind, name string) {
	if name == "" || len(f.Facts[kind]) >= maxFacts || slices.Contains(f.Facts[kind], name) {
		return
	}
	if f.Facts == nil {
		f.Facts = map[string][]string{}
	}
	f.Facts[kind] = append(f.Facts[kind], name)
}

// Identity is what a finding is about, and so what its id is made of: never instance ids, counts, times or places.
type Identity struct {
	Rule    string
	Subject Ref
	Holder  *Ref
	Path    []Ref
	Site    string
}

// ID returns the fingerprint: twelve letters and digits, the same for the same mistake in any run.
func (i Identity) ID() string {
	room := [512]byte{}
	b := room[:0]
	add := func(s string) { b = append(append(b, s...), 0) }
	ref := func(r Ref) {
		add(r.Service)
		if r.Key != nil {
			add("[" + *r.Key)
		}
		add(r.Impl())
		b = append(b, 1)
	}
	add(i.Rule)
	ref(i.Subject)
	if i.Holder != nil {
		b = append(b, 2)
		ref(*i.Holder)
	}
	for _, p := range i.Path {
		b = append(b, 3)
		ref(p)
	}
	if i.Site != "" {
		b = append(b, 4)
		add(i.Site)
	}
	return ids.Fingerprint(b)
}

// Merge adds what other saw of the same mistake, in another stream: counts add up, first and last widen.
func (f *Finding) Merge(other *Finding) {
	f.Severity = max(f.Severity, other.Severity)
	if f.Counts == nil {
		f.Counts = map[string]int64{}
	}
	for k, n := range other.Counts {
		f.Counts[k] += n
	}
	for k, names := range other.Facts {
		for _, n := range names {
			f.AddFact(k, n)
		}
	}
	if other.First < f.First {
		f.First = other.First
	}
	if other.Last > f.Last {
		f.Last = other.Last
	}
	room := MaxExamples - len(f.Examples)
	f.Examples = append(f.Examples, other.Examples[:min(room, len(other.Examples))]...)
	if f.Because == nil {
		f.Because = other.Because
	}
	if f.Caveat == nil {
		f.Caveat = other.Caveat
	}
}

// Clone returns a copy whose maps and lists are its own; the evidence is shared and not to be changed.
func (f *Finding) Clone() *Finding {
	c := *f
	c.Counts = make(map[string]int64, len(f.Counts))
	for k, n := range f.Counts {
		c.Counts[k] = n
	}
	c.Facts = nil
	for k, names := range f.Facts {
		for _, n := range names {
			c.AddFact(k, n)
		}
	}
	c.Examples = slices.Clone(f.Examples)
	return &c
}

// Brief returns a copy without what only a drawing of its examples needs.
func (f *Finding) Brief() *Finding {
	c := f.Clone()
	for n := range c.Examples {
		c.Examples[n].Evidence = nil
	}
	return c
}

// Seen returns how often it happened, as far as one of its figures shows it.
func (f *Finding) Seen() int64 {
	for _, figure := range []string{"instances", "scopes", "failures", "alive", "fills", "makes", "registrations"} {
		if n := f.Counts[figure]; n > 0 {
			return n
		}
	}
	return 0
}

// Sort puts the worst first: errors before warnings before notes, causes before what follows from them, the most
// often seen first, and then by rule and names, so that equal input gives equal output.
func Sort(list []*Finding) {
	slices.SortFunc(list, func(a, b *Finding) int {
		if a.Severity != b.Severity {
			return int(b.Severity) - int(a.Severity)
		}
		if (a.Because == nil) != (b.Because == nil) {
			if a.Because == nil {
				return -1
			}
			return 1
		}
		if x, y := a.Seen(), b.Seen(); x != y {
			return cmp.Compare(y, x)
		}
		if c := strings.Compare(a.Rule, b.Rule); c != 0 {
			return c
		}
		if c := strings.Compare(a.Subject.Name(), b.Subject.Name()); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
}
