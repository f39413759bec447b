package service_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/triage"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// maxReply is the most that a view answers with, unless more rows than usual are asked for.
const maxReply = 300 << 10

// enterpriseViews are the questions that pages ask of a recording.
var enterpriseViews = []string{
	"", "findings", "findings?limit=20&by=cause", "triage", "triage?by=place", "triage?by=registration", "triage?by=rule", "triage?by=scope", "registrations", "registrations?service=Ledger&offset=100",
	"wiring", "wiring?near=1", "wiring?service=Handler", "disposal", "disposal?limit=20", "keys", "keys?all=true", "layers", "costs", "costs?name=pilotage&order=saves", "scopes", "scopes?order=longest", "scopes?findings=true",
	"sharing", "sharing?last=50&depth=8", "by-hand",
}

// TestEnterprise asks every view of an application of ordinary size: each answers in less than 300 kB and fits the document, pages put
// together are the whole, and groups are of one cause.
func TestEnterprise(t *testing.T) {
	r := start(t, t.TempDir())
	w := load.Enterprise.New("dotnet-1", 8)
	trace := append(bytes.Clone(w.Requests(1200)), w.End()...)
	_, err := r.hub.PutFile(t.Context(), bytes.NewReader(trace), 1<<40)
	require.NoError(t, err)
	schemas := documentSchemas(t, r)
	for _, what := range enterpriseViews {
		status, _, body := r.do("GET", "/api/v1/recordings/latest/"+what, nil)
		require.Equal(t, 200, status, "%s: %s", what, body)
		assert.Less(t, len(body), maxReply, what)
	}
	var groups views.FindingGroups
	_, _, said := r.do("GET", "/api/v1/recordings/latest/triage", nil)
	require.NoError(t, json.Unmarshal(said, &groups))
	var value any
	require.NoError(t, json.Unmarshal(said, &value))
	require.NoError(t, schemas("FindingGroups").Validate(value))
	require.Len(t, groups.Groups, 3)
	assert.Equal(t, 1462, groups.Findings)
	assert.Equal(t, views.Tally{Error: 381, Warning: 1081}, groups.Tally)

	// The pages of a group are its findings, each once.
	for n, g := range groups.Groups {
		var ids []string
		for offset := 0; ; offset += 500 {
			var page views.RecordingFindings
			r.json(fmt.Sprintf("/api/v1/recordings/latest/findings?group=%s&limit=500&offset=%d", g.Key, offset), &page)
			assert.Equal(t, g.Findings, page.Total)
			for _, f := range page.Findings {
				ids = append(ids, f.ID)
			}
			if offset+500 >= page.Total {
				break
			}
		}
		slices.Sort(ids)
		assert.Len(t, slices.Compact(ids), g.Findings, "group %d", n)
	}
	for query, want := range map[string][2]int{ // groups, findings
		"severity=error": {3, 381}, "family=resolve": {1, 40}, "rule=captive/declared": {1, 1081}, "by=rule": {4, 1462}, "since=latest": {0, 0}, "service=nothing": {0, 0},
		"by=" + string(triage.Registration): {3, 1462},
	} {
		var got views.FindingGroups
		r.json("/api/v1/recordings/latest/triage?"+query, &got)
		assert.Equal(t, want, [2]int{got.Total, got.Findings}, query)
	}
	for query, want := range map[string]int{"by=mood": 400, "group=nothing": 404, "since=zzz": 404, "limit=0": 400} {
		status, _, _ := r.do("GET", "/api/v1/recordings/latest/findings?"+query, nil)
		assert.Equal(t, want, status, query)
	}

	// Modules are all registrations; an open one shows its own.
	var wiring views.Map
	r.json("/api/v1/recordings/latest/wiring", &wiring)
	assert.Empty(t, wiring.Nodes)
	all, wrong := 0, 0
	for _, m := range wiring.Modules {
		all += m.Registrations
		wrong += m.Wrong
	}
	for _, e := range wiring.Edges {
		wrong += e.Wrong
	}
	assert.Equal(t, 3000, all)
	var graph views.Graph
	r.json("/api/v1/recordings/latest/graph", &graph)
	for _, e := range graph.Edges {
		wrong -= e.Wrong
	}
	assert.Zero(t, wrong, "each line from longer- to shorter-lived is one between modules, or in one")
	for len(wiring.Nodes) == 0 { // from areas to their parts to registrations
		before := wiring.Modules[0].Name
		r.json("/api/v1/recordings/latest/wiring?open="+url.QueryEscape(before), &wiring)
		require.True(t, len(wiring.Nodes) > 0 || wiring.Modules[0].Name != before, "%s opens", before)
	}
	assert.LessOrEqual(t, len(wiring.Nodes)+len(wiring.Modules), views.MaxMapNodes)
	r.json("/api/v1/recordings/latest/wiring?near=0", &wiring)
	assert.Len(t, wiring.Nodes, views.MaxMapNodes, "the clock has more neighbours than can be laid out")
	assert.Positive(t, wiring.LeftOut)
}

// BenchmarkEnterprise asks every view of the largest recording of an application of ordinary size: 5 million events in 40 streams. The p95 is
// that of all requests after the first, which puts the streams together.
func BenchmarkEnterprise(b *testing.B) {
	const streams, requests = 40, 2533
	r := start(b, b.TempDir())
	in, out := io.Pipe()
	go func() {
		for n := range streams {
			w := load.Enterprise.New(fmt.Sprintf("java-%d", n+1), 8)
			for left := requests; left > 0; left -= 1000 {
				_, _ = out.Write(w.Requests(min(left, 1000)))
			}
			_, _ = out.Write(w.End())
		}
		out.Close()
	}()
	_, err := r.hub.PutFile(b.Context(), in, 1<<40)
	require.NoError(b, err)
	began := time.Now()
	r.do("GET", "/api/v1/recordings/latest/registrations", nil)
	first := time.Since(began)
	var took []time.Duration
	largest := 0
	for b.Loop() {
		for _, what := range enterpriseViews {
			began := time.Now()
			status, _, body := r.do("GET", "/api/v1/recordings/latest/"+what, nil)
			took = append(took, time.Since(began))
			require.Equal(b, 200, status, what)
			largest = max(largest, len(body))
		}
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)*95/100].Microseconds())/1000, "p95-ms")
	b.ReportMetric(float64(first.Milliseconds()), "first-ms")
	b.ReportMetric(float64(largest)/1000, "largest-kB")
	b.ReportMetric(0, "ns/op")
}
