package engine_test

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

const hello = `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"%s","start":"2026-03-02T05:40:00.000000000Z"}` + "\n"

func analyse(t *testing.T, text string) *engine.Result {
	t.Helper()
	r, err := engine.Analyse(t.Context(), strings.NewReader(text), reader.Options{}, rules.Default())
	require.NoError(t, err)
	for _, s := range r.Streams {
		require.NoError(t, s.Health.Balance())
	}
	return r
}

func TestDamage(t *testing.T) {
	begin := fmt.Sprintf(hello, "h-1") +
		`{"ev":"register","t":1,"reg":1,"service":"BerthLedger","lifetime":"scoped","disposable":true}` + "\n" +
		`{"ev":"open","t":2,"scope":1}` + "\n" +
		`{"ev":"make","t":3,"inst":1,"reg":1,"scope":1}` + "\n"
	end := `{"ev":"close","t":9,"scope":1}` + "\n" + `{"ev":"bye","t":10}` + "\n"
	tests := []struct {
		name, between string
		health        engine.Health
		found         int
	}{
		{"nothing", "", engine.Health{Lines: 6, Used: 6}, 1},
		{"bad lines", "{\"ev\":\"use\",\"t\":12,,\"inst\":1}\nwhat is this\n", engine.Health{Lines: 8, Used: 6, Refused: 2}, 1},
		{"unknown kinds", "{\"ev\":\"paint\",\"t\":4}\n\n", engine.Health{Lines: 7, Used: 6, UnknownKinds: 1}, 1},
		{"about what never came", "{\"ev\":\"use\",\"t\":4,\"inst\":77}\n{\"ev\":\"close\",\"t\":4,\"scope\":9}\n", engine.Health{Lines: 8, Used: 6, Unresolved: 2}, 1},
		{"lines written twice", "{\"ev\":\"make\",\"t\":3,\"inst\":1,\"reg\":1,\"scope\":1}\n{\"ev\":\"open\",\"t\":2,\"scope\":1}\n" + fmt.Sprintf(hello, "h-1"), engine.Health{Lines: 9, Used: 6, Refused: 3}, 1},
		{"a gap", "{\"ev\":\"gap\",\"t\":5,\"lost\":4}\n", engine.Health{Lines: 7, Used: 7, Lost: 4}, 1},
		{"disposed after all", "{\"ev\":\"dispose\",\"t\":5,\"inst\":1}\n", engine.Health{Lines: 7, Used: 7}, 0},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r := analyse(t, begin+test.between+end)
			require.Len(t, r.Streams, 1)
			got := r.Streams[0].Health
			assert.Len(t, got.Refusals, int(test.health.Refused))
			assert.Equal(t, test.health.Refused+test.health.Unresolved+test.health.Lost+test.health.UnknownKinds == 0, got.Whole())
			got.Refusals, got.Silent, test.health.Sampled = nil, nil, 1
			assert.Equal(t, test.health, got)
			require.Len(t, r.Findings, test.found)
			if test.found == 1 {
				assert.Equal(t, test.health.Refused+test.health.Unresolved+test.health.Lost > 0, r.Findings[0].Caveat != nil)
			}
		})
	}

	t.Run("cut off in the middle of a line", func(t *testing.T) {
		r := analyse(t, begin+`{"ev":"close","t":9,"sc`)
		assert.True(t, r.Streams[0].Health.CutOff)
		assert.Equal(t, []engine.Refusal{{Line: 5, Why: "not JSON: it ends where the end of a text should be"}}, r.Streams[0].Health.Refusals)
		assert.Empty(t, r.Findings, "what was open at a cut is unknown, not leaked")
	})
	t.Run("lines before the hello", func(t *testing.T) {
		r := analyse(t, `{"ev":"bye","t":1}`+"\nnoise\n"+begin+end)
		assert.Equal(t, int64(2), r.Streams[0].Health.Refused)
		assert.Equal(t, int64(8), r.Streams[0].Health.Lines)
	})
	t.Run("no hello at all", func(t *testing.T) {
		for _, text := range []string{"", "\n\n", "noise\n", `{"ev":"bye","t":1}`} {
			_, err := engine.Analyse(t.Context(), strings.NewReader(text), reader.Options{}, rules.Default())
			assert.ErrorIs(t, err, engine.ErrNoStream)
		}
	})
	t.Run("the input breaks off", func(t *testing.T) {
		r, err := engine.Analyse(t.Context(), io.MultiReader(strings.NewReader(begin), brokenReader{}), reader.Options{}, rules.Default())
		assert.ErrorIs(t, err, io.ErrClosedPipe)
		assert.Equal(t, int64(4), r.Streams[0].Health.Used)
	})
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, io.ErrClosedPipe }

// TestStreams checks that streams in one file keep their ids apart and that the same mistake in two of them is one.
func TestStreams(t *testing.T) {
	sample, err := os.ReadFile("../../../testdata/harbour.ndjson")
	require.NoError(t, err)
	one := analyse(t, string(sample))
	require.Len(t, one.Findings, 2)
	assert.Equal(t, "disposal/used-after", one.Findings[1].Rule)
	assert.Equal(t, &one.Findings[0].ID, one.Findings[1].Because)
	second := bytes.Replace(sample, []byte("h-1"), []byte("h-2"), 1)
	second = bytes.ReplaceAll(second, []byte("wiring.go:34"), []byte("wiring.go:99"))
	two := analyse(t, string(sample)+string(second))
	require.Len(t, two.Streams, 2)
	require.Len(t, two.Findings, 2)
	assert.Equal(t, one.Findings[0].ID, two.Findings[0].ID, "neither the stream nor the place is part of what a mistake is")
	assert.Equal(t, int64(2), two.Findings[0].Counts["instances"])
	assert.Equal(t, int64(2), two.Findings[0].Counts["uses_after"])
	assert.Len(t, two.Findings[0].Examples, 2)
	assert.Equal(t, []string{"h-1", "h-2"}, []string{two.Findings[0].Examples[0].Stream, two.Findings[0].Examples[1].Stream})

	e := one.Findings[0].Examples[0].Evidence
	require.NotNil(t, e)
	assert.Len(t, e.Lives, 2)
	assert.Equal(t, []finding.Keep{{Holder: 2, Kept: 1, At: 6400}}, e.Keeps)
	var after int
	for _, u := range e.Uses {
		if u.After && u.Kind == "use" {
			after++
		}
	}
	assert.Equal(t, 1, after)
}

// TestLive checks that a scope which is open for unusually long is reported while the stream is being written, and that a
// file of the same lines is not held to what is usual.
func TestLive(t *testing.T) {
	b := &strings.Builder{}
	fmt.Fprintf(b, hello, "h-1")
	fmt.Fprintln(b, `{"ev":"open","t":5,"scope":99,"kind":"request","name":"GET /tides"}`)
	for k := 1; k <= 20; k++ {
		fmt.Fprintf(b, `{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /tides"}`+"\n", 100*k, k)
		fmt.Fprintf(b, `{"ev":"close","t":%d,"scope":%d}`+"\n", 100*k+90, k)
	}
	run := func(s *engine.Analysis, more string) *engine.Result {
		r := reader.New(strings.NewReader(b.String()+more), reader.Options{})
		for {
			line, err := r.Next()
			if err != nil {
				require.ErrorIs(t, err, io.EOF)
				return s.Result()
			}
			s.Put(line)
		}
	}
	found := run(engine.NewLive(rules.Default(), nil), "").Findings
	require.Len(t, found, 1)
	assert.Equal(t, "disposal/unclosed-scope", found[0].Rule)
	assert.Equal(t, finding.Warning, found[0].Severity)
	assert.Empty(t, run(engine.NewStream(rules.Default(), nil), "").Findings)
	assert.Empty(t, run(engine.NewLive(rules.Default(), nil), `{"ev":"close","t":2100,"scope":99}`+"\n").Findings)
	ended := run(engine.NewLive(rules.Default(), nil), `{"ev":"bye","t":2100}`+"\n").Findings
	require.Len(t, ended, 1)
	assert.Equal(t, finding.Error, ended[0].Severity)
}
