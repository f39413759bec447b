package replay_test

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/replay"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/record/event"
)

type trace struct {
	text   []byte
	chunks []derive.Chunk
}

func (f *trace) Chunk(n int) ([]derive.Scope, error) { return derive.Unpack(f.chunks[n].Body) }
func (f *trace) Pending() ([]derive.Scope, error)    { return nil, nil }
func (f *trace) Between(from, to int64, put func(*event.Event) bool) error {
	plain, err := reader.Decompress(bytes.NewReader(f.text))
	if err != nil {
		return err
	}
	defer plain.Close()
	for r := reader.New(plain, reader.Options{}); ; {
		line, err := r.Next()
		if err != nil || line.Number > to || line.Event != nil && line.Number >= from && !put(line.Event) {
			return nil
		}
	}
}

func study(t testing.TB, text []byte) *views.Source {
	t.Helper()
	list, err := engine.Study(t.Context(), bytes.NewReader(text), reader.Options{}, rules.Default())
	require.NoError(t, err)
	src := &views.Source{Recording: "trace"}
	results := []*engine.Result{}
	for _, s := range list {
		f := &trace{text, s.Chunks}
		src.Streams = append(src.Streams, views.StreamSource{Head: s.State, Result: func() (*engine.Result, error) { return s.Result, nil }, Log: f, Lines: f})
		results = append(results, s.Result)
	}
	src.Result = engine.Merge(results)
	return src
}

// Real recordings, of each runtime: every change of every registration has an answer, or an error with the reason; the
// same figures stand where they were recorded, and nothing changes that was not touched by a change back and forth.
func TestEveryChange(t *testing.T) {
	root := filepath.Join("..", "..", "..", "testdata")
	files, err := filepath.Glob(filepath.Join(root, "offices", "*-none.ndjson.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, path := range append(files, filepath.Join(root, "office.ndjson"), filepath.Join(root, "harbour.ndjson")) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		src := study(t, text)
		state := src.State()
		made, played := int64(0), 0
		for n := range state.Registrations {
			made += state.Registrations[n].Made
		}
		for n := range state.Registrations {
			r := &state.Registrations[n]
			if r.Internal || r.Made == 0 || r.Impl == "" {
				continue
			}
			for _, to := range []string{replay.Singleton, replay.Scoped, replay.Transient} {
				set, err := replay.ParseSetting(r.Impl + "=" + to)
				require.NoError(t, err)
				a, err := replay.WhatIf(t.Context(), src, []replay.Setting{set}, rules.Default(), nil)
				if wrong := (*replay.Wrong)(nil); errors.As(err, &wrong) {
					continue
				}
				require.NoError(t, err, "%s %s", path, set.Text)
				played++
				assert.Equal(t, made, a.Instances.Now, "%s %s", path, set.Text)
				if to == replay.Singleton {
					assert.LessOrEqual(t, a.Instances.Then, made, "%s %s", path, set.Text)
					assert.LessOrEqual(t, a.Registrations[0].Made.Then, int64(1), "%s %s", path, set.Text)
				}
				if to == replay.Transient {
					assert.GreaterOrEqual(t, a.Registrations[0].Made.Then, a.Registrations[0].Made.Now, "%s %s", path, set.Text)
				}
			}
		}
		assert.NotZero(t, played, path)
	}
}

// The mistakes that a lifetime makes are mended by proposing another one.
func TestProposals(t *testing.T) {
	for name, want := range map[string]string{"node-awilix-roster-keeps-tides": "PilotRoster=scoped", "node-awilix-model-rebuilt": "TideModel=singleton", "jvm-spring-model-rebuilt": "TideModel=singleton"} {
		text, err := os.ReadFile(filepath.Join("..", "..", "..", "testdata", "offices", name+".ndjson.gz"))
		require.NoError(t, err)
		src := study(t, text)
		p, err := replay.Propose(t.Context(), src, rules.Default(), nil)
		require.NoError(t, err)
		require.NotEmpty(t, p.Proposals, name)
		assert.Equal(t, want, p.Proposals[0].Changes[0].Set, name)
		assert.NotEmpty(t, p.Proposals[0].Go, name)
	}
}

// BenchmarkWhatIf is a change played over a recording of forty registrations, beside analysing it.
func BenchmarkWhatIf(b *testing.B) {
	r := rand.New(rand.NewPCG(2027, 5))
	w := &wiring{}
	for n := range 40 {
		w.lifetimes = append(w.lifetimes, []string{replay.Scoped, replay.Transient, replay.Singleton}[min(2, n/15)])
		w.disposable, w.cost, w.needs = append(w.disposable, n%4 == 0), append(w.cost, 100), append(w.needs, nil)
		for m := n + 1; m < 40; m++ {
			if r.IntN(40-n) < 2 {
				w.needs[n] = append(w.needs[n], m)
			}
		}
	}
	for scope := 1; scope <= 10_000; scope++ {
		w.steps = append(w.steps, step{"open", scope, 0})
		for range 3 {
			w.steps = append(w.steps, step{"ask", scope, r.IntN(12)})
		}
		w.steps = append(w.steps, step{"close", scope, 0})
	}
	var text []byte
	events := w.run()
	for _, ev := range events {
		text = event.AppendLine(text, ev)
	}
	src := study(b, text)
	require.Len(b, src.State().Registrations, 40)
	set, err := replay.ParseSetting("F=singleton")
	require.NoError(b, err)
	b.Run("analysis", func(b *testing.B) {
		for b.Loop() {
			_, err := engine.Study(b.Context(), bytes.NewReader(text), reader.Options{}, rules.Default())
			require.NoError(b, err)
		}
		b.ReportMetric(float64(len(events)*b.N)/b.Elapsed().Seconds()/1e6, "Mevents/s")
	})
	b.Run("whatif", func(b *testing.B) {
		for b.Loop() {
			a, err := replay.WhatIf(b.Context(), src, []replay.Setting{set}, rules.Default(), nil)
			require.NoError(b, err)
			require.Less(b, a.Instances.Then, a.Instances.Now)
		}
		b.ReportMetric(float64(len(events)*b.N)/b.Elapsed().Seconds()/1e6, "Mevents/s")
	})
}

// An alias, or another service that a registration answers to, means that registration.
func TestNames(t *testing.T) {
	const head = `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"h-1","start":"2026-03-02T05:40:00Z"}
{"ev":"register","t":1,"reg":1,"service":"office.Clock","impl":"office.StationClock","lifetime":"singleton","also":[{"service":"office.Watch","key":"wall"}]}
{"ev":"register","t":2,"reg":2,"service":"office.TimeKeeper","alias":1}
{"ev":"register","t":3,"reg":3,"service":"office.Tides","key":"gauge","impl":"office.GaugeTides","lifetime":"scoped"}
{"ev":"register","t":4,"reg":4,"service":"office.Tides","key":"model","impl":"office.ModelTides","lifetime":"scoped"}
{"ev":"make","t":10,"inst":1,"reg":1,"scope":0}
`
	src := study(t, []byte(head))
	for text, want := range map[string]string{
		"Clock=scoped":           "office.Clock",
		"TimeKeeper=scoped":      "office.Clock",
		"Watch[wall]=scoped":     "office.Clock",
		"Watch [wall] = scoped":  "office.Clock",
		"Station*=scoped":        "office.Clock",
		"Tides[model]=transient": "office.Tides",
		"GaugeTides=transient":   "office.Tides",
		"Tides=transient":        `"Tides=transient" could be office.GaugeTides or office.ModelTides; name the implementation, or write more of the name`,
		"Tides[table]=transient": `nothing is registered as "Tides[table]"; 'keenlantern registrations' lists what is`,
		"Clokc=scoped":           `nothing is registered as "Clokc"; did you mean "Clock"?`,
	} {
		set, err := replay.ParseSetting(text)
		require.NoError(t, err)
		a, err := replay.WhatIf(t.Context(), src, []replay.Setting{set}, rules.Default(), nil)
		if err != nil {
			assert.EqualError(t, err, want)
			continue
		}
		assert.Equal(t, want, a.Changes[0].Of.Service, text)
	}
}

func FuzzParseSetting(f *testing.F) {
	for _, text := range []string{"A=scoped", "A[b].disposer=code", "[=singleton", "=", "A[]=transient"} {
		f.Add(text)
	}
	src := study(f, []byte(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"h-1","start":"2026-03-02T05:40:00Z"}`+"\n"))
	f.Fuzz(func(t *testing.T, text string) {
		if set, err := replay.ParseSetting(text); err == nil {
			_, _ = replay.WhatIf(t.Context(), src, []replay.Setting{set}, rules.Default(), nil)
		}
	})
}
