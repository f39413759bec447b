package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/record/event"
)

// inMemory is a trace's log of scopes and its lines.
type inMemory struct {
	chunks []derive.Chunk
	text   []byte
}

func (m *inMemory) Chunk(n int) ([]derive.Scope, error) { return derive.Unpack(m.chunks[n].Body) }
func (m *inMemory) Pending() ([]derive.Scope, error)    { return nil, nil }
func (m *inMemory) Between(from, to int64, f func(*event.Event) bool) error {
	for r := reader.New(bytes.NewReader(m.text), reader.Options{}); ; {
		line, err := r.Next()
		if err != nil || line.Number > to || line.Event != nil && line.Number >= from && !f(line.Event) {
			return nil
		}
	}
}

// local is what views answer of a trace with no service at all.
func local(t *testing.T, text []byte) *views.Source {
	t.Helper()
	list, err := engine.Study(t.Context(), bytes.NewReader(text), reader.Options{}, rules.Default())
	require.NoError(t, err)
	src := &views.Source{}
	results := []*engine.Result{}
	for _, s := range list {
		m := &inMemory{s.Chunks, text}
		src.Streams = append(src.Streams, views.StreamSource{Head: s.State, Result: func() (*engine.Result, error) { return s.Result, nil }, Log: m, Lines: m})
		results = append(results, s.Result)
	}
	src.Result = engine.Merge(results)
	return src
}

// questions are all views of a recording, as the service is asked and as the core answers.
func questions(t *testing.T, src *views.Source) map[string]any {
	t.Helper()
	all := views.Filter{Limit: views.DefaultRows}
	must := func(v any, err error) any {
		t.Helper()
		require.NoError(t, err)
		return v
	}
	q := map[string]any{
		"registrations":                    views.Registrations(src, all),
		"registrations?lifetime=singleton": views.Registrations(src, views.Filter{Lifetime: "singleton", Limit: 200}),
		"graph":                            views.Wiring(src, all),
		"disposal":                         views.Disposal(src, all),
		"keys?all=true":                    views.Keys(src, all, true),
		"layers":                           views.Layers(src, all),
		"costs":                            views.Costs(src, all, ""),
		"costs?order=made":                 views.Costs(src, views.Filter{Limit: views.DefaultRows}, views.CostsByInstances),
		"wiring":                           views.WiringMap(src, views.MapQuery{Near: -1}),
		"wiring?near=0":                    views.WiringMap(src, views.MapQuery{Near: 0}),
		"scopes":                           must(views.Scopes(src, views.ScopeQuery{Stream: -1, Limit: views.DefaultRows})),
		"scopes?order=longest&limit=3":     must(views.Scopes(src, views.ScopeQuery{Stream: -1, Limit: 3, Longest: true})),
		"scopes?findings=true":             must(views.Scopes(src, views.ScopeQuery{Stream: -1, Limit: views.DefaultRows, Findings: true})),
		"sharing?last=5&depth=4":           must(views.Sharing(src, views.SharingQuery{Filter: all, Last: 5, Depth: 4})),
	}
	list := must(views.Scopes(src, views.ScopeQuery{Stream: -1, Limit: 4})).(views.ScopeList)
	for _, s := range list.Scopes {
		q[fmt.Sprintf("scopes/%d.%d", s.Stream, s.ID)] = must(views.TellScope(src, s.Stream, s.ID, all, false))
		q[fmt.Sprintf("scopes/%d.%d?once=true&service=e", s.Stream, s.ID)] = must(views.TellScope(src, s.Stream, s.ID, views.Filter{Service: "e", Limit: views.DefaultRows}, true))
	}
	for _, id := range []uint64{1, 2, 5} {
		if v, err := views.TellInstance(src, 0, id); err == nil {
			q[fmt.Sprintf("instances/%d", id)] = v
		}
	}
	return q
}

// TestViews checks that the service answers every question about every sample just as the core does of the file, that
// the answers fit the document, and that it makes no difference whether a trace came as a file, in batches, or before
// a restart.
func TestViews(t *testing.T) {
	files, err := filepath.Glob("../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	files = append(files, "../../testdata/office.ndjson")
	folder := t.TempDir()
	r := start(t, folder)
	schemas := documentSchemas(t, r)
	shapes := map[string]string{
		"registrations": "RegistrationList", "graph": "Graph", "disposal": "DisposalView", "keys": "KeysView", "layers": "LayersView",
		"costs": "CostsView", "wiring": "WiringMap", "scopes": "ScopeList", "sharing": "Board",
	}
	same := func(t *testing.T, r *running, recording string, want map[string]any) {
		t.Helper()
		for what, answer := range want {
			status, _, got := r.do(http.MethodGet, "/api/v1/recordings/"+recording+"/"+what, nil)
			require.Equal(t, http.StatusOK, status, "%s: %s", what, got)
			var value any
			require.NoError(t, json.Unmarshal(got, &value))
			value.(map[string]any)["recording"] = ""
			text, err := json.Marshal(value)
			require.NoError(t, err)
			wanted, err := json.Marshal(answer)
			require.NoError(t, err)
			require.JSONEq(t, string(wanted), string(text), what)
			name, _, _ := strings.Cut(strings.Split(what, "?")[0], "/")
			shape := shapes[name]
			if strings.HasPrefix(what, "scopes/") {
				shape = "Story"
			} else if strings.HasPrefix(what, "instances/") {
				shape = "InstanceView"
			}
			require.NoError(t, schemas(shape).Validate(value), what)
		}
	}
	ids := map[string]string{}
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		t.Run(filepath.Base(file), func(t *testing.T) {
			status, _, said := r.do(http.MethodPost, "/api/v1/recordings", bytes.NewReader(text))
			require.Equal(t, http.StatusCreated, status, "%s", said)
			var s views.Summary
			require.NoError(t, json.Unmarshal(said, &s))
			ids[file] = s.ID
			same(t, r, s.ID, questions(t, local(t, text)))
		})
	}
	t.Run("in batches", func(t *testing.T) {
		text, err := os.ReadFile("../../testdata/office.ndjson")
		require.NoError(t, err)
		list := strings.SplitAfter(string(text), "\n")
		for n := 0; n*20 < len(list); n++ {
			status, _, said := r.do(http.MethodPut, fmt.Sprintf("/api/v1/streams/office-1/batches/%d", n+1), lines(list[n*20:min(len(list), n*20+20)]))
			require.Equal(t, http.StatusOK, status, "%s", said)
			if n == 2 { // in the middle: some answer, of what there is so far
				var board views.Board
				eventually(t, "the first scopes", func() bool {
					r.json("/api/v1/recordings/latest/sharing", &board)
					return len(board.Scopes) > 1
				})
			}
		}
		var detail views.RecordingDetail
		eventually(t, "the end", func() bool {
			r.json("/api/v1/recordings/latest", &detail)
			return detail.State == "ended"
		})
		want := questions(t, local(t, text))
		eventually(t, "all of it", func() bool {
			var l views.ScopeList
			r.json("/api/v1/recordings/latest/scopes", &l)
			return l.Total == 8
		})
		same(t, r, "latest", want)
		var c views.Comparison
		r.json("/api/v1/compare?a=latest&b="+ids["../../testdata/office.ndjson"], &c)
		assert.Empty(t, c.New)
		assert.Empty(t, c.Registrations)
		assert.Empty(t, c.Costs)
		assert.Len(t, c.Still, 4)
		_, _, said := r.do(http.MethodGet, "/api/v1/compare?a=latest@first-half&b=latest@second-half", nil)
		var value any
		require.NoError(t, json.Unmarshal(said, &value))
		assert.NoError(t, schemas("Comparison").Validate(value))
	})
	t.Run("after a restart", func(t *testing.T) {
		r.end()
		again := start(t, folder)
		text, err := os.ReadFile("../../testdata/office.ndjson")
		require.NoError(t, err)
		same(t, again, "latest", questions(t, local(t, text)))
		for path, why := range map[string]string{
			"/sharing?scopes=0.1,1.2": "another stream",
			"/scopes/77":              "there is no scope 0/77",
			"/scopes/x":               "the scope is",
			"/scopes?order=oldest":    "latest or longest",
			"/sharing?last=0":         "last is",
			"/keys?all=maybe":         "all is",
		} {
			p := again.problem(http.MethodGet, "/api/v1/recordings/latest"+path, nil)
			assert.Contains(t, strings.ToLower(p.Detail), why)
		}
	})
}

// TestInterleaved checks that streams whose batches come in turns, with the same ids in each, are one recording whose
// answers are those of the streams one behind the other, and that a sampled one is marked.
func TestInterleaved(t *testing.T) {
	text, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	const replicas = 3
	streams := [replicas][]string{}
	whole := []byte{}
	for n := range streams {
		one := strings.ReplaceAll(string(text), "office-1", fmt.Sprintf("office-%d", n+1))
		if n == 2 {
			one = strings.ReplaceAll(one, `"kind":"request"`, `"kind":"request","weight":10`)
		}
		streams[n] = strings.SplitAfter(one, "\n")
		whole = append(whole, one...)
	}
	r := start(t, t.TempDir())
	for at, batch := 0, 1; at < len(streams[0]); at, batch = at+7, batch+1 {
		for n, list := range streams {
			status, _, said := r.do(http.MethodPut, fmt.Sprintf("/api/v1/streams/office-%d/batches/%d", n+1, batch), lines(list[at:min(len(list), at+7)]))
			require.Equal(t, http.StatusOK, status, "%s", said)
		}
	}
	var got views.RecordingDetail
	eventually(t, "all have ended", func() bool {
		r.json("/api/v1/recordings/latest", &got)
		return got.State == "ended" && got.Streams == replicas
	})
	src := local(t, whole)
	assert.InDelta(t, 8.0/(3+5*10), got.Health.Sampled, 1e-9)
	assert.False(t, got.Health.Whole)
	found := r.findings("latest").Findings
	require.Len(t, found, len(src.Result.Findings))
	for n, f := range found {
		want := src.Result.Findings[n]
		assert.Equal(t, want.ID, f.ID)
		assert.Equal(t, want.Counts, f.Counts, f.Title)
	}
	var list views.RegistrationList
	r.json("/api/v1/recordings/latest/registrations", &list)
	want := views.Registrations(src, views.Filter{})
	require.Len(t, list.Registrations, len(want.Registrations))
	for n := range want.Registrations {
		assert.Equal(t, want.Registrations[n], list.Registrations[n])
	}
	var story views.Story
	r.json("/api/v1/recordings/latest/scopes/2.1", &story)
	assert.Equal(t, 2, story.Scope.Stream)
	assert.Len(t, story.Built, 3)
}
