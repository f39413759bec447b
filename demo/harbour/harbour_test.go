package harbour_test

import (
	"bytes"
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/internal/core/conform"
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
	require.NoError(t, harbour.Work(t.Context(), office, 300, 4, 0))
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	require.NoError(t, office.Close(ctx))
	require.NoError(t, rec.Close(ctx))
	told, err := conform.Check(bytes.NewReader(out.Bytes()))
	require.NoError(t, err)
	require.True(t, told.Conforms, "%v", told.Problems)
	if len(mistakes) == 0 {
		require.Empty(t, told.Problems)
	}
	r, err := engine.Analyse(t.Context(), &out, reader.Options{}, rules.Default())
	require.NoError(t, err)
	require.True(t, r.Streams[0].Health.Whole(), "%+v", r.Streams[0].Health)
	require.Equal(t, int64(300+3*4+30), r.Streams[0].Figures.Scopes)
	require.GreaterOrEqual(t, r.Streams[0].Figures.Registrations, int64(25))
	return r
}

func TestSound(t *testing.T) {
	assert.Empty(t, run(t).Findings)
}

// TestMistakes checks that each mistake gives exactly its findings.
func TestMistakes(t *testing.T) {
	type found struct{ rule, subject, holder string }
	want := map[string][]found{
		harbour.RosterKeepsTides: {{"captive/scoped", "harbour.TideSource [gauge]", "harbour.PilotRoster"}},
		harbour.LogNeverClosed:   {{"disposal/leaked", "harbour.LogPage", ""}},
		harbour.StepLeftOpen:     {{"disposal/unclosed-scope", "step night step", ""}},
		harbour.ModelRebuilt:     {{"sharing/rebuilt", "harbour.TideSource [model/table]", ""}},
		harbour.TwoClocks:        {{"sharing/split", "harbour.HarbourClock", ""}},
		harbour.StationMisspelt:  {{"keys/missing", "harbour.WeatherReport [lockgate]", ""}},
		harbour.GaugeReadDirect:  {{"layers/bypassed", "harbour.TideSource [gauge]", "harbour.BerthPlanner"}},
		harbour.CrewWaitsForTug:  {{"resolve/cycle", "harbour.TugCrew", ""}},
		harbour.StandInWeather:   {{"inject/stand-in", "harbour.WeatherReport [outer-bar]", ""}},
		harbour.PagesPileUp:      {{"disposal/pile-up", "harbour.LogPage", ""}, {"disposal/at-end", "harbour.LogPage", ""}},
	}
	require.Len(t, want, len(harbour.Mistakes))
	for _, m := range harbour.Mistakes {
		t.Run(m.Name, func(t *testing.T) {
			var got []found
			for _, f := range run(t, m.Name).Findings {
				one := found{f.Rule, f.Subject.Name(), ""}
				if f.Holder != nil {
					one.holder = f.Holder.Service
				}
				got = append(got, one)
				if f.Rule != "disposal/unclosed-scope" && f.Rule != "keys/missing" && f.Rule != "resolve/cycle" {
					assert.Regexp(t, `^\w+\.go:\d+$`, f.Subject.Place(), f.Title)
				}
			}
			assert.Equal(t, want[m.Name], got)
		})
	}
	t.Run("all", func(t *testing.T) {
		all, err := harbour.Choose("all")
		require.NoError(t, err)
		got := map[string]bool{}
		for _, f := range run(t, all...).Findings {
			got[f.Rule] = true
		}
		for _, list := range want {
			for _, f := range list {
				assert.True(t, got[f.rule], f.rule)
			}
		}
	})
}
