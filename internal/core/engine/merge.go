package engine

import (
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/rules"
)

// Merge puts the results of several streams together: the same mistake in two of them is one finding.
func Merge(results []*Result) *Result {
	var m Merger
	for _, r := range results {
		m.Add(r)
	}
	return m.Result()
}

// Merger puts the results of several streams together one by one, so that they need not be in memory at once. The zero
// value is ready.
type Merger struct {
	added    int
	together rules.Together
	streams  []Info
	findings []*finding.Finding
	byID     map[string]*finding.Finding
}

// Add adds a stream's result, which stays as it is.
func (m *Merger) Add(r *Result) {
	if m.byID == nil {
		m.byID = map[string]*finding.Finding{}
	}
	m.added++
	m.together.Add(outlinesOf(r))
	m.streams = append(m.streams, r.Streams...)
	for _, f := range r.Findings {
		if one := m.byID[f.ID]; one != nil {
			one.Merge(f)
			continue
		}
		one := f.Clone()
		m.byID[f.ID] = one
		m.findings = append(m.findings, one)
	}
}

// Result returns all that was added. The Merger is at its end with that.
func (m *Merger) Result() *Result {
	all := &Result{Format: Format, Streams: m.streams, Findings: m.findings}
	if all.Streams == nil {
		all.Streams = []Info{}
	}
	if m.added > 1 {
		redundant := m.together.Redundant()
		all.Findings = slices.DeleteFunc(all.Findings, func(f *finding.Finding) bool { return redundant[f.ID] })
	}
	if all.Findings == nil {
		all.Findings = []*finding.Finding{}
	}
	Finalize(all.Findings)
	return all
}

// Digest is what lists need of a stream's result.
type Digest struct {
	Info     Info              `json:"info"`
	Outlines []finding.Outline `json:"outlines"`
}

// Digest returns that of a result of one stream.
func (r *Result) Digest() Digest {
	return Digest{Info: r.Streams[0], Outlines: outlinesOf(r)}
}

func outlinesOf(r *Result) []finding.Outline {
	list := make([]finding.Outline, 0, len(r.Findings))
	for _, f := range r.Findings {
		list = append(list, f.Outline())
	}
	return list
}

// Severities returns how grave each finding of some streams together is, by its id: what Merge would find, without finding it.
func Severities(streams []Digest) map[string]finding.Severity {
	list := map[string]finding.Severity{}
	var together rules.Together
	for n := range streams {
		together.Add(streams[n].Outlines)
		for _, m := range streams[n].Outlines {
			list[m.ID] = max(list[m.ID], m.Severity)
		}
	}
	if len(streams) > 1 {
		for id := range together.Redundant() {
			delete(list, id)
		}
	}
	return list
}
