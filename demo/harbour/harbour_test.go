package harbour_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record"
)

// run records the office under real requests and returns what was found.
func run(t *testing.T, mistakes ...string) *engine.Result {
	t.Helper()
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour-office", Environment: "production", Output: &out})
	require.NoError(t, err)
	office, err := harbour.Start(rec, mistakes)
	require.NoError(t, err)
	require.NoError(t, harbour.Drive(t.Context(), office.URL, 60, 4, 0))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	require.NoError(t, office.Close(ctx))
	require.NoError(t, rec.Close(ctx))
	r, err := engine.Analyse(&out, reader.Options{}, rules.Default())
	require.NoError(t, err)
	require.True(t, r.Streams[0].Health.Whole(), "%+v", r.Streams[0].Health)
	require.Equal(t, int64(60), r.Streams[0].Figures.Scopes)
	return r
}

func TestSound(t *testing.T) {
	assert.Empty(t, run(t).Findings)
}

// TestMistakes holds that each mistake gives exactly its findings.
func TestMistakes(t *testing.T) {
	type found struct {
		rule, subject, holder string
		instances             int64
	}
	want := map[string][]found{
		harbour.RosterKeepsTides: {
			{"captive/scoped", "harbour.TideSource", "harbour.PilotRoster", 1},
			{"disposal/used-after", "harbour.TideSource", "", 1},
		},
		harbour.LogNeverClosed: {{"disposal/leaked", "harbour.LogPage", "", 24}},
	}
	require.Len(t, want, len(harbour.Mistakes))
	for _, m := range harbour.Mistakes {
		t.Run(m.Name, func(t *testing.T) {
			var got []found
			for _, f := range run(t, m.Name).Findings {
				one := found{f.Rule, f.Subject.Service, "", f.Counts["instances"]}
				if f.Holder != nil {
					one.holder = f.Holder.Service
				}
				got = append(got, one)
				assert.Regexp(t, `^\w+\.go:\d+$`, f.Subject.Place())
			}
			assert.Equal(t, want[m.Name], got)
		})
	}
}
