package engine_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// expected is what stands beside a sample: the errors and warnings it must give, and those it may.
type expected struct {
	Findings, Expect, May, Notes []expectedFinding
	Health                       map[string]map[string]any
}

type expectedFinding struct {
	Rule, Severity, Service, Implementation string
	Holder                                  any
	Because                                 string
}

// fits reports whether f is what was expected; a name means a service or an implementation.
func (e expectedFinding) fits(f *finding.Finding) bool {
	named := func(want string, r finding.Ref) bool {
		return want == "" || want == "*" || want == r.Service || want == r.Impl()
	}
	if e.Rule != f.Rule || e.Severity != "" && e.Severity != f.Severity.String() || !named(e.Service, f.Subject) || !named(e.Implementation, f.Subject) {
		return false
	}
	switch h := e.Holder.(type) {
	case string:
		return f.Holder != nil && named(h, *f.Holder)
	case map[string]any:
		service, _ := h["service"].(string)
		return f.Holder != nil && named(service, *f.Holder)
	}
	return true
}

// TestSamples checks that the sample traces, some of them recorded under real containers, give exactly their errors and
// warnings.
func TestSamples(t *testing.T) {
	files, err := filepath.Glob("../../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".ndjson"), func(t *testing.T) {
			text, err := os.ReadFile(strings.TrimSuffix(file, ".ndjson") + ".expect.json")
			require.NoError(t, err)
			var want expected
			require.NoError(t, json.Unmarshal(text, &want))
			in, err := os.Open(file)
			require.NoError(t, err)
			defer in.Close()
			r, err := engine.Analyse(t.Context(), in, reader.Options{}, rules.Default())
			require.NoError(t, err)
			byID := map[string]*finding.Finding{}
			for _, f := range r.Findings {
				byID[f.ID] = f
			}
			must := append(want.Findings, want.Expect...)
			found := map[*finding.Finding]bool{}
			for _, e := range append(must, want.Notes...) {
				ok := false
				for _, f := range r.Findings {
					if e.fits(f) && !found[f] {
						ok, found[f] = true, true
						if e.Because != "" && assert.NotNil(t, f.Because, "%s explains %s", e.Because, f.Rule) {
							assert.Equal(t, e.Because, byID[*f.Because].Rule)
						}
						break
					}
				}
				assert.True(t, ok, "missing: %+v", e)
			}
			for _, f := range r.Findings {
				may := found[f] || f.Severity == finding.Note
				for _, e := range want.May {
					may = may || e.fits(f)
				}
				assert.True(t, may, "unexpected: %s %s: %s %v", f.Severity, f.Rule, f.Title, f.Facts)
			}
			for _, s := range r.Streams {
				require.NoError(t, s.Health.Balance())
				if refused, ok := want.Health["*"]["refused"]; ok {
					assert.InDelta(t, refused, s.Health.Refused, 0)
				}
			}
		})
	}
}
