package many_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// ask sends a request until it is answered, and returns the answer.
func ask(t *testing.T, method, url, body string) string {
	t.Helper()
	var text []byte
	status := 0
	require.Eventually(t, func() bool {
		req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
		if err != nil {
			return false
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return false
		}
		defer res.Body.Close()
		text, err = io.ReadAll(res.Body)
		status = res.StatusCode
		return err == nil && status != http.StatusServiceUnavailable && status != http.StatusTooManyRequests
	}, 30*time.Second, 50*time.Millisecond, "%s %s", method, url)
	require.Less(t, status, 300, "%s %s: %s", method, url, text)
	return string(text)
}

// asLogs makes an OTLP request, as JSON, of a trace's lines, whose numbers are all whole.
func asLogs(t *testing.T, stream string, lines []byte) string {
	t.Helper()
	text := func(key, value string) map[string]any {
		return map[string]any{"key": key, "value": map[string]any{"stringValue": value}}
	}
	start := time.Date(2026, 3, 2, 5, 40, 0, 0, time.UTC)
	var records []any
	for line := range bytes.Lines(lines) {
		var fields map[string]any
		require.NoError(t, json.Unmarshal(line, &fields))
		var attributes []any
		for name, v := range fields {
			switch v := v.(type) {
			case string:
				if name != "ev" && fields["ev"] != "hello" || name == "format" {
					attributes = append(attributes, text("lantern."+name, v))
				}
			case bool:
				attributes = append(attributes, map[string]any{"key": "lantern." + name, "value": map[string]any{"boolValue": v}})
			case float64:
				if name != "t" {
					attributes = append(attributes, map[string]any{"key": "lantern." + name, "value": map[string]any{"intValue": fmt.Sprint(int64(v))}})
				}
			}
		}
		at := start.Add(time.Duration(fields["t"].(float64)))
		records = append(records, map[string]any{"timeUnixNano": fmt.Sprint(at.UnixNano()), "eventName": "lantern." + fields["ev"].(string), "attributes": attributes})
	}
	body, err := json.Marshal(map[string]any{"resourceLogs": []any{map[string]any{
		"resource":  map[string]any{"attributes": []any{text("service.name", "harbour"), text("service.instance.id", stream), text("service.version", "1.5.0")}},
		"scopeLogs": []any{map[string]any{"logRecords": records}},
	}}})
	require.NoError(t, err)
	return string(body)
}

// fill has services record the same: an application of two streams that are being written, one that has ended, a file, and one as
// OpenTelemetry logs; and has people say the same of them. It returns the recordings' ids: of what runs, what has ended, the file, and
// the logs.
func fill(t *testing.T, urls []string) (ids [4]string) {
	t.Helper()
	turn := 0
	url := func() string {
		turn++
		return urls[turn%len(urls)]
	}
	put := func(stream string, n int, lines []byte) string {
		var a struct {
			Recording string `json:"recording"`
		}
		said := ask(t, http.MethodPut, fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", url(), stream, n), string(lines))
		require.NoError(t, json.Unmarshal([]byte(said), &a))
		return a.Recording
	}
	for _, stream := range []string{"running-1", "running-2"} {
		o := load.NewOffice(stream, 7)
		for n := 1; n <= 5; n++ {
			ids[0] = put(stream, n, o.Requests(400))
		}
		time.Sleep(1500 * time.Millisecond) // until it is known to be written
	}
	office, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	half := bytes.LastIndexByte(office[:len(office)/2], '\n') + 1
	put("office-1", 1, office[:half])
	ids[1] = put("office-1", 2, office[half:])
	harbour, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	var file views.Summary
	require.NoError(t, json.Unmarshal([]byte(ask(t, http.MethodPost, url()+"/api/v1/recordings", string(harbour))), &file))
	ids[2] = file.ID
	post := func(lines []byte) {
		for range 2 { // an exporter that has not heard the answer sends the same again
			req, err := http.NewRequest(http.MethodPost, url()+"/v1/logs", strings.NewReader(asLogs(t, "logs-1", lines)))
			require.NoError(t, err)
			req.Header.Set("Content-Type", "application/json")
			res, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			said, err := io.ReadAll(res.Body)
			res.Body.Close()
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, res.StatusCode, "%s", said)
			require.NotContains(t, string(said), "rejected", "%s", said)
		}
	}
	logs := bytes.Replace([]byte(strings.Join(load.Leaky("logs-1", 40), "")), []byte(`"start":"2026-03-02T05:40:00.000000000Z"`), []byte(`"version":"1.5.0"`), 1)
	third := bytes.LastIndexByte(logs[:len(logs)/3], '\n') + 1
	post(logs[:third])
	post(logs[third:])
	var list views.RecordingList
	require.NoError(t, json.Unmarshal([]byte(ask(t, http.MethodGet, urls[0]+"/api/v1/recordings", "")), &list))
	for _, r := range list.Recordings {
		if r.Version == "1.5.0" {
			ids[3] = r.ID
		}
	}
	require.NotEmpty(t, ids[3])
	ask(t, http.MethodPatch, url()+"/api/v1/recordings/"+ids[1], `{"name":"before the dredger","pinned":true,"labels":{"tide":"low"}}`)
	ask(t, http.MethodPut, url()+"/api/v1/applications/harbour/order", `{"on":true,"share":0.5}`)
	require.Eventually(t, func() bool { // what was taken is analysed in a moment, and a draft says what is not at its end
		return strings.Contains(ask(t, http.MethodGet, url()+"/api/v1/recordings/"+ids[1], ""), `"state":"ended"`)
	}, time.Minute, 100*time.Millisecond)
	draft := ask(t, http.MethodGet, url()+"/api/v1/recordings/"+ids[1]+"/contract/draft", "")
	ask(t, http.MethodPut, url()+"/api/v1/applications/harbour/contract", draft)
	return ids
}

// times are what differs from one service to another that records the same. A slow machine is so long at the questions that what
// runs has become silent.
var times = regexp.MustCompile(`"(created|put)":"[^"]*"|"(state)":"(?:running|silent)"|# Drafted from recording .*`)

// answers asks a service everything that can be asked about recordings, and returns the answers by the question, with the recordings'
// ids and times made the same.
func answers(t *testing.T, url string, ids [4]string) map[string]string {
	t.Helper()
	same := func(text string) string {
		for n, id := range ids {
			text = strings.ReplaceAll(text, id, fmt.Sprintf("recording-%d", n+1))
		}
		return times.ReplaceAllString(text, `"$1$2":""`)
	}
	var questions []string
	add := func(format string, args ...any) { questions = append(questions, fmt.Sprintf(format, args...)) }
	add("/api/v1/recordings")
	add("/api/v1/rules")
	add("/api/v1/applications/harbour/order")
	add("/api/v1/applications/harbour/contract")
	add("/api/v1/contract.schema.json")
	add("/api/v1/service/retention")
	add("/api/v1/openapi.json")
	add("/api/v1/compare?a=%s@first-half&b=%s@second-half", ids[1], ids[1])
	add("/api/v1/compare?a=%s&b=%s", ids[1], ids[0])
	for _, id := range ids {
		of := "/api/v1/recordings/" + id
		add("%s", of)
		for _, view := range []string{"findings", "triage", "triage?by=scope", "registrations", "graph", "wiring", "wiring?near=0", "scopes", "scopes?order=longest&limit=20", "sharing", "disposal", "keys", "keys?all=true", "by-hand", "layers", "costs", "export", "contract/draft", "proposals"} {
			add("%s/%s", of, view)
		}
		var found views.RecordingFindings
		get(t, url+of+"/findings", &found)
		for _, f := range found.Findings {
			add("%s/findings/%s", of, f.ID)
		}
		var scopes struct {
			Scopes []struct {
				Stream int    `json:"stream"`
				ID     uint64 `json:"id"`
			} `json:"scopes"`
		}
		get(t, url+of+"/scopes?limit=5", &scopes)
		for _, s := range scopes.Scopes {
			add("%s/scopes/%d.%d", of, s.Stream, s.ID)
		}
		add("%s/instances/0.1", of)
	}
	add("/api/v1/recordings/%s/contract", ids[1])
	add("/api/v1/recordings/%s/whatif?set=GaugeTides=transient", ids[1])
	all := map[string]string{}
	for _, q := range questions {
		res, err := http.Get(url + q)
		require.NoError(t, err)
		text, err := io.ReadAll(res.Body)
		res.Body.Close()
		require.NoError(t, err)
		assert.Equal(t, http.StatusOK, res.StatusCode, "%s: %.300s", q, text)
		all[same(q)] = fmt.Sprintf("%d %s", res.StatusCode, same(string(text)))
	}
	return all
}

// TestSame checks that each of three services answers every question in the same way as one process that has everything: while
// streams are being written, and when they have ended. Every route of the interface that reads is asked.
func TestSame(t *testing.T) {
	_, fleet := start(t, 1, 3)
	bins, err := binaries()
	require.NoError(t, err)
	alone, err := browser.Serve(bins[0], "serve", t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, alone.Stop()) }()
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	idsAlone, ids := fill(t, []string{alone.URL}), fill(t, fleet.URLs())

	holds := func(what string) {
		time.Sleep(2 * time.Second) // what was sent last is analysed, and known everywhere
		want := answers(t, alone.URL, idsAlone)
		asked := map[string]bool{}
		for n, url := range fleet.URLs() {
			got := answers(t, url, ids)
			for q, answer := range want {
				asked[q] = true
				if !assert.Equal(t, answer, got[q], "%s: service %d asked for %s", what, n+1, q) {
					return
				}
			}
			assert.Len(t, got, len(want))
		}
		unasked(t, alone.URL, asked)
	}
	holds("while it is written")
	for _, who := range []struct {
		urls []string
	}{{[]string{alone.URL}}, {fleet.URLs()}} {
		for n, stream := range []string{"running-1", "running-2"} {
			o := load.NewOffice(stream, 7)
			for range 5 {
				o.Requests(400)
			}
			ask(t, http.MethodPut, fmt.Sprintf("%s/api/v1/streams/%s/batches/6", who.urls[n%len(who.urls)], stream), string(o.End()))
		}
	}
	holds("when it has ended")
}

// unasked fails where a route that reads recordings was not asked.
func unasked(t *testing.T, url string, asked map[string]bool) {
	t.Helper()
	var doc struct {
		Paths map[string]map[string]any `json:"paths"`
	}
	get(t, url+"/api/v1/openapi.json", &doc)
	elsewhere := []string{ // of one service, or nothing of recordings
		"/api/v1/live", "/api/v1/service", "/api/v1/services", "/api/v1/session", "/api/v1/tokens", "/api/v1/applications", "/metrics", "/healthz", "/readyz",
		"/program/{system}", "/go/{file}", "/maven/{file}", "/nuget/{file}", "/composer/packages.json", "/recorders/{runtime}/{file}",
	}
	for path, methods := range doc.Paths {
		if methods["get"] == nil || slices.Contains(elsewhere, path) {
			continue
		}
		like := regexp.MustCompile("^" + regexp.MustCompile(`\\\{[^}]*\\\}`).ReplaceAllString(regexp.QuoteMeta(path), `[^/]+`) + `(\?.*)?$`)
		found := false
		for q := range asked {
			found = found || like.MatchString(q)
		}
		assert.True(t, found, "GET %s was not asked", path)
	}
}
