package contract_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/finding"
)

// TestAdopt accepts findings in contracts of every form of the section, and leaves all else as it was.
func TestAdopt(t *testing.T) {
	now := time.Date(2026, 12, 1, 9, 0, 0, 0, time.UTC)
	until := time.Date(2027, 3, 31, 0, 0, 0, 0, time.UTC)
	list := []*finding.Finding{
		{ID: "aaaa11112222", Rule: "captive/scoped", Severity: finding.Error, Title: "Roster keeps\na [Tide] {source}", Subject: finding.Ref{Service: "Tide"}},
		{ID: "bbbb11112222", Rule: "resolve/missing", Severity: finding.Error, Title: "Buoy is not registered", Subject: finding.Ref{Service: "Buoy"}},
	}
	const head = "contract: lantern-contract/1\napplication: harbour # the office\n"
	const one = "{finding: bbbb11112222, reason: known, until: 2026-12-24}"
	for name, c := range map[string]struct {
		text             string
		accepted, before int
		has              string
	}{
		"no contract":         {"", 2, 0, `application: "harbour"`},
		"no section":          {head + "scopes:\n  - {name: night step}\n", 2, 0, "  - {name: night step}\n\naccepted:\n"},
		"an empty list":       {head + "accepted: []\n", 2, 0, "accepted: ["},
		"a list in one line":  {head + "accepted: [" + one + "] # few\n", 1, 1, "# few"},
		"entries":             {head + "accepted:\n  # the buoys\n  - " + one + " # until then\n", 1, 1, "  # the buoys\n  - " + one + " # until then"},
		"entries at the left": {head + "accepted:\n- " + one + "\nscopes:\n- name: a\n", 1, 1, "- " + one},
		"an expired entry":    {head + "accepted:\n  - finding: bbbb11112222\n    reason: known\n    until: 2026-11-30 # soon\n", 2, 0, "    until: 2027-03-31 # soon"},
		"the last day":        {head + "accepted:\n  - {finding: bbbb11112222, reason: known, until: 2026-12-01}\n", 1, 1, "until: 2026-12-01"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := contract.Adopt("c.yaml", "harbour", []byte(c.text), list, `because of "spring": see #12`, until, now)
			require.NoError(t, err, c.text)
			assert.Equal(t, c.accepted, got.Accepted)
			assert.Equal(t, c.before, got.Before)
			assert.Contains(t, string(got.Text), c.has)
			read, err := contract.Read("c.yaml", got.Text)
			require.NoError(t, err)
			assert.Len(t, read.Accepts(now), 2, "%s", got.Text)
			assert.Equal(t, `because of "spring": see #12`, read.Accepts(now)["aaaa11112222"])
			again, err := contract.Adopt("c.yaml", "harbour", got.Text, list, "again", until, now)
			require.NoError(t, err)
			assert.Equal(t, contract.Adoption{Text: got.Text, Before: 2}, *again, "accepted findings are unchanged")
		})
	}
	for name, c := range map[string]struct{ text, reason, until, says string }{
		"no reason":           {"", " ", "2027-03-31", "needs a reason"},
		"a long reason":       {"", strings.Repeat("x", 301), "2027-03-31", "at most 300"},
		"a day that is over":  {"", "r", "2026-11-30", "is over"},
		"another application": {strings.Replace(head, "harbour", "yard", 1), "r", "2027-03-31", `"yard"`},
		"a broken contract":   {"contract: [", "r", "2027-03-31", "no YAML"},
	} {
		day, err := time.Parse(time.DateOnly, c.until)
		require.NoError(t, err)
		_, err = contract.Adopt("c.yaml", "harbour", []byte(c.text), list, c.reason, day, now)
		require.ErrorContains(t, err, c.says, name)
	}
	// As many as an application of ordinary size has, and more than a contract takes.
	many := func(n int) (list []*finding.Finding) {
		for k := range n {
			list = append(list, &finding.Finding{ID: fmt.Sprintf("f%011d", k), Rule: "captive/scoped", Title: "t", Subject: finding.Ref{Service: "Context"}})
		}
		return list
	}
	_, err := contract.Adopt("c.yaml", "harbour", nil, many(8000), "old", until, now)
	require.NoError(t, err)
	_, err = contract.Adopt("c.yaml", "harbour", nil, many(11_000), "old", until, now)
	require.ErrorContains(t, err, "at most 10000 lines")
}
