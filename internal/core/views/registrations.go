package views

import (
	"fmt"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// RegistrationRow is one registration and what became of it.
type RegistrationRow struct {
	ID        int            `json:"id"` // its place in the order in which they were registered, from 0
	Ref       finding.Ref    `json:"registration"`
	Declared  string         `json:"declared,omitempty"`
	Container string         `json:"container,omitempty"`
	Internal  bool           `json:"internal"`
	Local     bool           `json:"local"` // it answers in a part of its container only
	Observed  derive.Verdict `json:"observed"`
	Made      int64          `json:"made"`
	Alive     int64          `json:"alive"`
	Used      int64          `json:"used"`
	Disposed  int64          `json:"disposed"`
	TookNS    int64          `json:"took_ns"` // making all of them
	OwnNS     int64          `json:"own_ns"`  // without what was built for them
	MaxNS     int64          `json:"max_ns"`
	AskedBy   []Asker        `json:"asked_by"` // the first MaxAskers
	Askers    int            `json:"askers"`   // how many there are
	Asked     int64          `json:"asked"`    // hand-outs in all
	Answers   bool           `json:"answers"`
	Why       string         `json:"why"` // why it answers, or who does instead
	LostTo    *finding.Ref   `json:"lost_to"`
	Wraps     *finding.Ref   `json:"wraps"`
	WrappedBy []finding.Ref  `json:"wrapped_by"`
	Alias     *finding.Ref   `json:"alias"`
	Also      []derive.Name  `json:"also"`
	Needs     []derive.Need  `json:"needs"`
	Template  []string       `json:"template"` // what it answers for any of: "any-key", "any-type"
	FormOf    *finding.Ref   `json:"form_of"`  // the template of which it is a closed form
	Forms     []finding.Ref  `json:"forms"`    // of a template, the first MaxForms
	Pooled    bool           `json:"pooled"`
	Mechanism string         `json:"mechanism,omitempty"` // how instances declare that they are to be disposed
	Signature string         `json:"signature,omitempty"` // of the constructor that the container chose
	First     *Creation      `json:"first"`               // nil where none was made
	Last      *Creation      `json:"last"`
}

// MaxForms bounds how many forms of a template a row lists.
const MaxForms = 50

// Creation is when, where and for whom one instance was made.
type Creation struct {
	Instance  uint64 `json:"instance"`
	Mark      string `json:"mark"`
	When      string `json:"when"`   // "at start" or "on demand"
	Clock     string `json:"clock"`  // RFC 3339
	Stream    int    `json:"stream"` // the number of its stream in the recording
	Scope     uint64 `json:"scope"`  // in which it was asked for; 0 is the root
	ScopeName string `json:"scope_name"`
	By        *Asker `json:"by"` // who received it; nil where that was not seen
}

// creation shows when an instance was made. Handouts are those of its registration: the first that followed names who asked.
func creation(src *Source, c *derive.Creation, handouts []*derive.Handout, last bool) *Creation {
	if c == nil {
		return nil
	}
	s := src.State()
	out := &Creation{Instance: c.Instance, Mark: finding.Mark(c.Instance), When: when(c), Clock: clockAt(s, c.T), Scope: c.Scope, ScopeName: c.ScopeName}
	for n := range src.Streams {
		if src.Streams[n].Head.Stream == c.Stream {
			out.Stream = n
		}
	}
	var by *derive.Handout
	for _, h := range handouts {
		switch {
		case by == nil, !last && h.First < by.First, last && h.Last > by.Last:
			by = h
		}
	}
	if by != nil {
		a := askerOf(s, by)
		out.By = &a
	}
	return out
}

// RegistrationList is a page of registrations, in the order in which they were registered.
type RegistrationList struct {
	Recording     string            `json:"recording"`
	Registrations []RegistrationRow `json:"registrations"`
	Total         int               `json:"total"`
}

// Registrations answers: what is registered, which one answers, and does each lifetime behave as declared?
func Registrations(src *Source, f Filter) RegistrationList {
	s := src.State()
	shown := []int{}
	for n := range s.Registrations {
		if f.lets(&s.Registrations[n]) {
			shown = append(shown, n)
		}
	}
	list := RegistrationList{Recording: src.Recording, Registrations: []RegistrationRow{}, Total: len(shown)}
	shown = page(shown, &f)
	// What follows is gathered for the rows that are shown, not for thousands of others.
	rows := make(map[int]*registrationParts, len(shown))
	for _, n := range shown {
		rows[n] = &registrationParts{}
	}
	forms := make([][]finding.Ref, len(s.Registrations))
	for n := range s.Registrations {
		if of := s.Registrations[n].FormOf; of >= 0 && of < len(forms) && len(forms[of]) < MaxForms {
			forms[of] = append(forms[of], s.Registrations[n].Ref())
		}
	}
	for n := range s.Handouts {
		h := &s.Handouts[n]
		if one := rows[h.Given]; one != nil {
			one.asked.add(askerOf(s, h))
			one.total += h.Count
			one.handouts = append(one.handouts, h)
		}
	}
	around := structureOf(s)
	for _, n := range shown {
		r, parts := &s.Registrations[n], rows[n]
		row := RegistrationRow{
			ID: n, Ref: r.Ref(), Container: r.Container, Internal: r.Internal, Local: r.Local, Observed: r.Verdict, Made: r.Made,
			Alive: r.Made - r.Ended, Used: r.Used, Disposed: r.Disposed, TookNS: r.TookNS, OwnNS: r.OwnNS, MaxNS: r.MaxNS,
			AskedBy: parts.asked.busiest(), Askers: len(parts.asked.list), Asked: parts.total, Answers: r.Answered == n || r.Local || len(r.Template) > 0, Wraps: refAt(s, r.Wraps), WrappedBy: []finding.Ref{},
			Alias: refAt(s, r.Alias), Also: r.Also, Needs: r.Needs, Template: r.Template, FormOf: refAt(s, r.FormOf), Forms: forms[n],
			Pooled: r.Pooled, Mechanism: r.Mechanism, Signature: r.Signature,
			First: creation(src, r.First, parts.handouts, false), Last: creation(src, r.Last, parts.handouts, true),
		}
		if row.Forms == nil {
			row.Forms = []finding.Ref{}
		}
		if r.Declared != r.Lifetime {
			row.Declared = r.Declared
		}
		for _, k := range around.outer[n] {
			row.WrappedBy = append(row.WrappedBy, s.Registrations[k].Ref())
		}
		row.Why, row.LostTo = around.answers(n)
		list.Registrations = append(list.Registrations, row)
	}
	return list
}

// registrationParts is what hand-outs show of one registration.
type registrationParts struct {
	asked    askers
	total    int64
	handouts []*derive.Handout
}

// answers returns why the n-th registration answers a single request for its service and key, or who does instead.
func (t *structure) answers(n int) (string, *finding.Ref) {
	s := t.s
	r := &s.Registrations[n]
	rivals := t.rivals[rivalOf(r)]
	if r.Service == "" {
		return "it was mentioned and never registered", nil
	}
	switch {
	case slices.Contains(r.Template, "any-key"):
		return "a template: it answers for any key that no other registration has", nil
	case len(r.Template) > 0:
		return "a template: its forms answer for any type argument", nil
	}
	if r.Answered == n {
		switch {
		case r.Alias >= 0:
			return "answered with the instance of " + refAt(s, r.Alias).Name(), nil
		case rivals == 1:
			return "the only one", nil
		case r.Wraps >= 0:
			return "the outermost layer", nil
		case r.Duplicates == "primary" && r.Primary:
			return "marked as primary", nil
		case r.Duplicates == "first":
			return fmt.Sprintf("the first of %d registered", rivals), nil
		}
		return fmt.Sprintf("the last of %d registered", rivals), nil
	}
	if r.Local {
		return "local: it answers where it is known, and nowhere else", nil
	}
	to := refAt(s, r.Answered)
	if outer := t.outer[n]; len(outer) > 0 {
		return "a layer inside " + s.Registrations[outer[0]].Ref().Impl(), to
	}
	if to == nil {
		return "none of several can be chosen", nil
	}
	why := "another one answers"
	switch r.Duplicates {
	case "first":
		why = "registered after the one that answers"
	case "last":
		why = "registered before the one that answers"
	case "primary":
		why = "another one is primary"
	}
	return why, to
}
