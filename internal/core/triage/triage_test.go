package triage_test

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/triage"
	"keenlantern.example/internal/load"
)

func enterprise(t *testing.T) []*finding.Finding {
	t.Helper()
	w := load.Enterprise.New("java-1", 8)
	trace := append(bytes.Clone(w.Requests(1200)), w.End()...)
	r, err := engine.Analyse(t.Context(), bytes.NewReader(trace), reader.Options{}, rules.Default())
	require.NoError(t, err)
	return r.Findings
}

// TestCauses checks that the 1,462 findings of an application of ordinary size are three mistakes, the one first that ends most.
func TestCauses(t *testing.T) {
	list := enterprise(t)
	groups := triage.Groups(list, triage.Cause)
	var got []string
	for _, g := range groups {
		got = append(got, fmt.Sprint(g.Findings, g.Errors, g.Warnings, g.Holders, g.Rules))
	}
	assert.Equal(t, []string{"1421 340 1081 1421 [captive/declared captive/scoped]", "40 40 0 40 [resolve/missing]", "1 1 0 0 [disposal/leaked]"}, got)
	assert.Equal(t, 9, groups[2].Scopes, "the same leak on nine routes")
	assert.Contains(t, groups[0].Title, "is kept by 340 registrations that outlive it, and would be by 1\u202f081 more")
	assert.Contains(t, groups[1].Title, "is not registered, and is asked for in 40 places")
	assert.Equal(t, finding.Error, groups[0].Lead.Severity)
}

// TestEveryFindingIsInAGroup holds it for each grouping; by the name of a scope it may be in several.
func TestEveryFindingIsInAGroup(t *testing.T) {
	list := enterprise(t)
	for _, by := range triage.Groupings {
		seen, keys, all := map[string]bool{}, map[string]bool{}, 0
		before := 1 << 30
		for _, g := range triage.Groups(list, by) {
			assert.False(t, keys[g.Key], "%s: key %s twice", by, g.Key)
			keys[g.Key] = true
			assert.LessOrEqual(t, g.Errors, before, "%s: those first that end most errors", by)
			before = g.Errors
			assert.Len(t, g.Members(), g.Findings)
			all += g.Findings
			for _, f := range g.Members() {
				seen[f.ID] = true
			}
		}
		assert.Len(t, seen, len(list), by)
		if by != triage.Scope {
			assert.Equal(t, len(list), all, by)
		}
	}
}

// TestSides has one singleton that keeps a dozen instances of a request as one cause, beside one that many keep; what follows from a finding
// is with it, and findings that follow from one another in a circle are somewhere.
func TestSides(t *testing.T) {
	ref := func(name string) finding.Ref { return finding.Ref{Service: name} }
	captive := func(id, holder, kept string) *finding.Finding {
		h := ref(holder)
		return &finding.Finding{ID: id, Rule: "captive/scoped", Severity: finding.Error, Basis: finding.Observed, Title: holder + " keeps " + kept, Subject: ref(kept), Holder: &h}
	}
	var list []*finding.Finding
	for n := range 12 {
		list = append(list, captive(fmt.Sprint("a", n), "Dispatcher", fmt.Sprint("Session", n)))
	}
	for n := range 5 {
		list = append(list, captive(fmt.Sprint("b", n), fmt.Sprint("Holder", n), "Context"))
	}
	list = append(list, captive("c", "Dispatcher", "Context")) // the dispatcher explains more
	first := "a3"
	list = append(list, &finding.Finding{ID: "d", Rule: "disposal/used-after", Severity: finding.Error, Subject: ref("Session3"), Because: &first})
	one, two := "e1", "e2"
	list = append(list, &finding.Finding{ID: one, Rule: "keys/shadowed", Subject: ref("Tide"), Because: &two}, &finding.Finding{ID: two, Rule: "keys/shadowed", Subject: ref("Tide"), Because: &one})
	groups := triage.Groups(list, triage.Cause)
	require.Len(t, groups, 3)
	assert.Equal(t, "Dispatcher keeps 13 services that end before it", groups[0].Title)
	assert.Equal(t, 14, groups[0].Findings)
	assert.Equal(t, 1, groups[0].Follow)
	assert.Equal(t, "Context is kept by 5 registrations that outlive it", groups[1].Title)
	assert.Equal(t, 2, groups[2].Findings)
}
