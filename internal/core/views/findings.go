package views

import (
	"fmt"
	"slices"
	"strings"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/triage"
)

// FindingQuery narrows a list of findings. The zero value lets everything through.
type FindingQuery struct {
	Least   finding.Severity // and worse ones
	Family  string           // the first part of the rule's id
	Rule    string           // or all of it
	Service string           // a part of the name of a registration that the finding names
	By      triage.By        // with Group: only the findings of this group
	Group   string           // its key
	Known   map[string]bool  // findings that are left out, by their ids
	Limit   int              // rows; 0: all
	Offset  int
}

// RecordingFindings is a page of a recording's findings.
type RecordingFindings struct {
	Recording string `json:"recording"`
	Total     int    `json:"total"`          // findings that the query lets through
	Accepted  int    `json:"accepted_total"` // that the contract accepts, which are not among them
	*engine.Result
}

// FindingGroups is a recording's findings, grouped by what they have in common.
type FindingGroups struct {
	Recording string          `json:"recording"`
	By        triage.By       `json:"by"`
	Groups    []*triage.Group `json:"groups"`   // ordered by how many findings a fix ends
	Total     int             `json:"total"`    // groups that the query lets through
	Wrong     int             `json:"wrong"`    // those of them that have an error
	Findings  int             `json:"findings"` // and findings in them
	Families  []Family        `json:"families"` // of all findings, whatever the query
	Tally     Tally           `json:"tally"`    // the same way
}

// Family is the rules whose ids begin alike, and how many findings they have.
type Family struct {
	Name     string `json:"name"`
	Findings int    `json:"findings"`
}

// ErrNoGroup is returned when no group has this key.
type ErrNoGroup struct {
	By  triage.By
	Key string
}

// Error names the group.
func (e *ErrNoGroup) Error() string {
	return fmt.Sprintf("no group of findings by %s has the key %q; it may be gone with the last of its findings", e.By, e.Key)
}

// lets reports whether a finding passes, its group aside.
func (q *FindingQuery) lets(f *finding.Finding) bool {
	return f.Severity >= q.Least && (q.Rule == "" || f.Rule == q.Rule) && (q.Family == "" || strings.HasPrefix(f.Rule, q.Family+"/")) &&
		!q.Known[f.ID] && (q.Service == "" || q.names(f))
}

func (q *FindingQuery) names(f *finding.Finding) bool {
	has := func(r *finding.Ref) bool {
		return holds(r.Service, q.Service) || holds(keyOf(r.Key), q.Service) || holds(r.Impl(), q.Service)
	}
	return has(&f.Subject) || f.Holder != nil && has(f.Holder) || slices.ContainsFunc(f.Path, func(r finding.Ref) bool { return has(&r) })
}

// choose returns the findings that pass, in a new list.
func (q *FindingQuery) choose(list []*finding.Finding) ([]*finding.Finding, error) {
	out := []*finding.Finding{}
	for _, f := range list {
		if q.lets(f) {
			out = append(out, f)
		}
	}
	if q.Group == "" {
		return out, nil
	}
	// Groups are those of all findings: a filter narrows what a group shows, and makes no other group of it.
	for _, g := range triage.Groups(list, q.By) {
		if g.Key == q.Group {
			members := slices.Clone(g.Members())
			return slices.DeleteFunc(members, func(f *finding.Finding) bool { return !q.lets(f) }), nil
		}
	}
	return nil, &ErrNoGroup{q.By, q.Group}
}

// Chosen returns the findings that the query lets through, all of them, whatever its page.
func Chosen(r *engine.Result, q FindingQuery) ([]*finding.Finding, error) {
	return q.choose(r.Findings)
}

// Findings answers: what is wrong? The result is not changed.
func Findings(recording string, r *engine.Result, q FindingQuery) (RecordingFindings, error) {
	list, err := q.choose(r.Findings)
	if err != nil {
		return RecordingFindings{}, err
	}
	page := *r
	out := RecordingFindings{Recording: recording, Total: len(list), Accepted: len(r.Accepted), Result: &page}
	page.Findings = []*finding.Finding{}
	for _, f := range paged(list, q.Limit, q.Offset) {
		page.Findings = append(page.Findings, f.Brief())
	}
	page.Accepted = nil
	for _, a := range paged(r.Accepted, q.Limit, q.Offset) {
		a.Finding = a.Finding.Brief()
		page.Accepted = append(page.Accepted, a)
	}
	return out, nil
}

// Triage answers: what should be fixed first?
func Triage(recording string, r *engine.Result, q FindingQuery) FindingGroups {
	out := FindingGroups{Recording: recording, By: q.By, Groups: []*triage.Group{}, Families: []Family{}, Tally: Tally{Accepted: len(r.Accepted)}}
	var list []*finding.Finding
	for _, f := range r.Findings {
		out.Tally.add(f.Severity)
		family, _, _ := strings.Cut(f.Rule, "/")
		n := slices.IndexFunc(out.Families, func(o Family) bool { return o.Name == family })
		if n < 0 {
			n = len(out.Families)
			out.Families = append(out.Families, Family{Name: family})
		}
		out.Families[n].Findings++
		if q.lets(f) {
			list = append(list, f)
		}
	}
	slices.SortFunc(out.Families, func(a, b Family) int { return strings.Compare(a.Name, b.Name) })
	groups := triage.Groups(list, q.By)
	out.Total, out.Findings = len(groups), len(list)
	for _, g := range groups {
		if g.Errors > 0 {
			out.Wrong++
		}
	}
	out.Groups = append(out.Groups, paged(groups, q.Limit, q.Offset)...)
	return out
}

func (t *Tally) add(s finding.Severity) {
	switch s {
	case finding.Error:
		t.Error++
	case finding.Warning:
		t.Warning++
	default:
		t.Note++
	}
}

// paged cuts a list to a page; 0 is no limit.
func paged[T any](list []T, limit, offset int) []T {
	list = list[min(offset, len(list)):]
	if limit > 0 {
		list = list[:min(limit, len(list))]
	}
	return list
}
