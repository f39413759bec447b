package service_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/service"
	"keenlantern.example/internal/store/sqlite"
)

// running is a service over a real store.
type running struct {
	*httptest.Server
	t    testing.TB
	hub  *ingest.Hub
	gate *access.Gate
	end  func()
}

func start(t testing.TB, folder string) *running { return startWith(t, folder, false) }

func startWith(t testing.TB, folder string, wantTokens bool) *running {
	t.Helper()
	log := slog.New(slog.NewTextHandler(t.Output(), nil))
	st, err := sqlite.Open(t.Context(), folder)
	require.NoError(t, err)
	hub := ingest.New(st, rules.Default(), log)
	accepts := service.Accepts(st, log)
	hub.Accept(accepts)
	desk, err := control.New(t.Context(), st)
	require.NoError(t, err)
	gate, err := access.New(t.Context(), st)
	require.NoError(t, err)
	h, err := service.New(service.Config{
		Hub: hub, Desk: desk, Contracts: st, Accepts: accepts, Gate: gate, Tokens: wantTokens, Log: log, Version: "test", MaxBatch: 64 << 10, MaxFile: 1 << 20,
		Console:   fstest.MapFS{"index.html": {Data: []byte("<!doctype html>console")}, "assets/a.js": {Data: []byte("1")}},
		Recorders: os.DirFS(folder),
	})
	require.NoError(t, err)
	r := &running{Server: httptest.NewServer(h), t: t, hub: hub, gate: gate}
	require.NoError(t, hub.Resume(t.Context()))
	ended := false
	r.end = func() {
		if !ended {
			ended = true
			desk.Close()
			r.Close()
			hub.Close()
			require.NoError(t, st.Close())
		}
	}
	t.Cleanup(r.end)
	return r
}

// do sends a request and returns the status and the answer.
func (r *running) do(method, path string, body io.Reader, headers ...string) (int, http.Header, []byte) {
	r.t.Helper()
	req, err := http.NewRequestWithContext(r.t.Context(), method, r.URL+path, body)
	require.NoError(r.t, err)
	for n := 0; n < len(headers); n += 2 {
		if headers[n] == "Host" {
			req.Host = headers[n+1]
		}
		req.Header.Set(headers[n], headers[n+1])
	}
	res, err := r.Client().Do(req)
	require.NoError(r.t, err)
	defer res.Body.Close()
	said, err := io.ReadAll(res.Body)
	require.NoError(r.t, err)
	return res.StatusCode, res.Header, said
}

func (r *running) json(path string, into any) {
	r.t.Helper()
	status, _, said := r.do(http.MethodGet, path, nil)
	require.Equal(r.t, http.StatusOK, status, "%s: %s", path, said)
	require.NoError(r.t, json.Unmarshal(said, into))
}

func (r *running) findings(recording string) (f views.RecordingFindings) {
	r.t.Helper()
	r.json("/api/v1/recordings/"+recording+"/findings", &f)
	return f
}

// problem is what every error answers with.
type problem struct {
	Type, Title, Detail string
	Status              int
	Expected            int64
}

func (r *running) problem(method, path string, body io.Reader, headers ...string) problem {
	r.t.Helper()
	status, h, said := r.do(method, path, body, headers...)
	assert.Equal(r.t, "application/problem+json", h.Get("Content-Type"), "%s", said)
	var p problem
	require.NoError(r.t, json.Unmarshal(said, &p), "%s", said)
	assert.Equal(r.t, status, p.Status)
	assert.NotEmpty(r.t, p.Title)
	return p
}

// sample returns the sample trace as lines, of the stream h-1.
func sample(t *testing.T) []string {
	t.Helper()
	text, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	return slices.Collect(strings.Lines(string(text)))
}

func lines(list []string) io.Reader { return strings.NewReader(strings.Join(list, "")) }

// eventually waits for what follows an acknowledgement: analysis.
func eventually(t *testing.T, what string, is func() bool) {
	t.Helper()
	require.Eventually(t, is, 10*time.Second, 20*time.Millisecond, what)
}

func TestBatches(t *testing.T) {
	folder := t.TempDir()
	r := start(t, folder)
	all := sample(t)
	const at = "/api/v1/streams/h-1/batches/"

	assert.Equal(t, int64(1), r.problem(http.MethodPut, at+"2", lines(all[2:])).Expected, "before any batch")
	status, _, said := r.do(http.MethodPut, at+"1", lines(all[:6]))
	require.Equal(t, http.StatusOK, status, "%s", said)
	var first struct {
		Recording, Stream string
		Batch, Lines      int64
	}
	require.NoError(t, json.Unmarshal(said, &first))
	assert.Equal(t, int64(6), first.Lines)
	_, _, again := r.do(http.MethodPut, at+"1", lines(all[:6]))
	assert.JSONEq(t, string(said), string(again), "the same batch again is answered the same")
	other := r.problem(http.MethodPut, at+"1", strings.NewReader("something else"))
	assert.Equal(t, "urn:keenlantern:problem:batch-conflict", other.Type, "another batch under its number is not")

	skipped := r.problem(http.MethodPut, at+"3", lines(all[6:]))
	assert.Equal(t, http.StatusConflict, skipped.Status)
	assert.Equal(t, int64(2), skipped.Expected)
	assert.Contains(t, skipped.Detail, "Batch 2")

	var zipped bytes.Buffer
	g := gzip.NewWriter(&zipped)
	_, err := io.Copy(g, lines(all[6:10]))
	require.NoError(t, errors.Join(err, g.Close()))
	status, _, said = r.do(http.MethodPut, at+"2", &zipped, "Content-Encoding", "gzip")
	require.Equal(t, http.StatusOK, status, "%s", said)
	var list views.RecordingList
	eventually(t, "it is being written", func() bool {
		r.json("/api/v1/recordings", &list)
		return list.Recordings[0].State == "running" && list.Recordings[0].Figures.Events == 10
	})

	z, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	packed := z.EncodeAll([]byte(strings.Join(all[10:], "")), nil)
	status, _, said = r.do(http.MethodPut, at+"3", bytes.NewReader(packed), "Content-Encoding", "zstd")
	require.Equal(t, http.StatusOK, status, "%s", said)
	eventually(t, "it is analysed", func() bool { return len(r.findings("latest").Findings) == 2 })
	want := r.findings(first.Recording)
	assert.Equal(t, "captive/scoped", want.Findings[0].Rule)
	assert.True(t, want.Streams[0].Ended)
	assert.Nil(t, want.Findings[0].Examples[0].Evidence, "a list has no drawings")
	var one views.FindingDetail
	r.json("/api/v1/recordings/latest/findings/"+want.Findings[0].ID[:5], &one)
	assert.NotNil(t, one.Examples[0].Evidence)

	// Stopped and started again, everything is there, and a batch that comes again still counts nothing.
	r.end()
	r = start(t, folder)
	assert.Equal(t, want, r.findings(first.Recording))
	status, _, _ = r.do(http.MethodPut, at+"3", bytes.NewReader(packed), "Content-Encoding", "zstd")
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, int64(3+1), r.problem(http.MethodPut, at+"9", lines(all[:1])).Expected)
	assert.Equal(t, want, r.findings(first.Recording))
}

func TestFiles(t *testing.T) {
	r := start(t, t.TempDir())
	text := strings.Join(sample(t), "")
	second := strings.Replace(text, "h-1", "h-2", 1)
	status, h, said := r.do(http.MethodPost, "/api/v1/recordings", strings.NewReader("\n\n"+text+"not a line\n"+second))
	require.Equal(t, http.StatusCreated, status, "%s", said)
	var got views.Summary
	require.NoError(t, json.Unmarshal(said, &got))
	assert.Equal(t, "/api/v1/recordings/"+got.ID, h.Get("Location"))
	assert.Equal(t, 2, got.Streams)
	assert.Equal(t, int64(1), got.Health.Refused)
	assert.Equal(t, "ended", got.State)
	var detail views.RecordingDetail
	r.json("/api/v1/recordings/"+got.ID, &detail)
	assert.Equal(t, int64(17), detail.StreamList[0].Health.Refusals[0].Line, "lines are numbered through the file, empty ones too")
	f := r.findings(got.ID)
	require.Len(t, f.Findings, 2)
	assert.Equal(t, int64(2), f.Findings[0].Counts["instances"])

	// A file and a live stream may have the same name.
	status, _, said = r.do(http.MethodPut, "/api/v1/streams/h-1/batches/1", strings.NewReader(text))
	require.Equal(t, http.StatusOK, status, "%s", said)
	var list views.RecordingList
	r.json("/api/v1/recordings?limit=1", &list)
	assert.Equal(t, 2, list.Total)
	assert.Len(t, list.Recordings, 1)
}

func TestFilters(t *testing.T) {
	r := start(t, t.TempDir())
	status, _, _ := r.do(http.MethodPost, "/api/v1/recordings", lines(sample(t)))
	require.Equal(t, http.StatusCreated, status)
	for query, n := range map[string]int{
		"severity=error": 2, "severity=note": 2, "family=captive": 1, "family=disposal": 1, "family=keys": 0,
		"service=TideSource": 2, "service=PilotRoster": 1, "service=LogBook": 0,
	} {
		var f views.RecordingFindings
		r.json("/api/v1/recordings/latest/findings?"+query, &f)
		assert.Len(t, f.Findings, n, query)
	}
}

func TestProblems(t *testing.T) {
	r := start(t, t.TempDir())
	hello := sample(t)[0]
	status, _, _ := r.do(http.MethodPost, "/api/v1/recordings", lines(sample(t)))
	require.Equal(t, http.StatusCreated, status)
	big := strings.Repeat(" ", 70<<10)
	var bomb bytes.Buffer
	g := gzip.NewWriter(&bomb)
	_, err := g.Write(bytes.Repeat([]byte(" "), 10<<20))
	require.NoError(t, errors.Join(err, g.Close()))
	tests := []struct {
		name, method, path string
		body               string
		headers            []string
		status             int
		kind, detail       string
	}{
		{"no batch number", "PUT", "/api/v1/streams/s/batches/one", hello, nil, 400, "bad-request", `"one" is no batch number`},
		{"batch zero", "PUT", "/api/v1/streams/s/batches/0", hello, nil, 422, "not-a-trace", "numbered from 1"},
		{"too long a name", "PUT", "/api/v1/streams/" + strings.Repeat("s", 201) + "/batches/1", hello, nil, 400, "bad-request", "at most 200 bytes"},
		{"no hello first", "PUT", "/api/v1/streams/s/batches/1", `{"ev":"bye","t":1}`, nil, 422, "not-a-trace", "has to be its hello"},
		{"a refused hello", "PUT", "/api/v1/streams/s/batches/1", `{"ev":"hello","t":1}`, nil, 422, "not-a-trace", "hello without format"},
		{"an empty batch", "PUT", "/api/v1/streams/s/batches/1", "", nil, 422, "not-a-trace", "starts with a hello"},
		{"another stream's hello", "PUT", "/api/v1/streams/s/batches/1", hello, nil, 422, "not-a-trace", `stream "h-1"`},
		{"over the bound", "PUT", "/api/v1/streams/h-1/batches/1", hello + big, nil, 413, "too-large", "65536 bytes"},
		{"over the bound when unpacked", "PUT", "/api/v1/streams/h-1/batches/1", bomb.String(), []string{"Content-Encoding", "gzip"}, 413, "too-large", "65536 bytes"},
		{"not the encoding it says", "PUT", "/api/v1/streams/h-1/batches/1", hello, []string{"Content-Encoding", "gzip"}, 400, "bad-request", "is not gzip"},
		{"a broken zstd", "PUT", "/api/v1/streams/h-1/batches/1", hello, []string{"Content-Encoding", "zstd"}, 400, "bad-request", "is not zstd"},
		{"an unknown encoding", "PUT", "/api/v1/streams/h-1/batches/1", hello, []string{"Content-Encoding", "br"}, 400, "bad-request", "use gzip, zstd or none"},
		{"a file without a stream", "POST", "/api/v1/recordings", "noise\n", nil, 422, "not-a-trace", "no line is a hello"},
		{"a file that breaks off", "POST", "/api/v1/recordings", bomb.String()[:100], nil, 422, "not-a-trace", "breaks off"},
		{"a file over the bound", "POST", "/api/v1/recordings", hello + strings.Repeat(big, 16), nil, 422, "not-a-trace", "too large"},
		{"an unknown recording", "GET", "/api/v1/recordings/zzz", "", nil, 404, "not-found", `no recording "zzz"`},
		{"findings of an unknown recording", "GET", "/api/v1/recordings/zzz/findings", "", nil, 404, "not-found", `no recording "zzz"`},
		{"an unknown finding", "GET", "/api/v1/recordings/latest/findings/zzz", "", nil, 404, "not-found", `no finding "zzz"`},
		{"an unknown severity", "GET", "/api/v1/recordings/latest/findings?severity=dire", "", nil, 400, "bad-request", "error, warning or note"},
		{"a limit that is none", "GET", "/api/v1/recordings?limit=many", "", nil, 400, "bad-request", "from 1 to 500"},
		{"an address that is none", "GET", "/api/v1/nothing", "", nil, 404, "not-found", "openapi.json"},
		{"a method that is none", "DELETE", "/api/v1/recordings", "", nil, 405, "method", "method"},
		{"a foreign host", "GET", "/api/v1/recordings", "", []string{"Host", "lantern.example:80"}, 403, "foreign-request", "not called"},
		{"a foreign page", "GET", "/api/v1/recordings", "", []string{"Origin", "http://elsewhere.example"}, 403, "foreign-request", "elsewhere.example"},
		{"an asset that is none", "GET", "/assets/none.js", "", nil, 404, "not-found", "none.js"},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			r := &running{Server: r.Server, t: t}
			p := r.problem(test.method, test.path, strings.NewReader(test.body), test.headers...)
			assert.Equal(t, test.status, p.Status)
			assert.Equal(t, "urn:keenlantern:problem:"+test.kind, p.Type)
			assert.Contains(t, p.Detail, test.detail)
		})
	}
	var list views.RecordingList
	r.json("/api/v1/recordings", &list)
	assert.Equal(t, 1, list.Total, "what was refused left nothing behind, and what was stored is there")
}

func TestConsoleAndHeaders(t *testing.T) {
	r := start(t, t.TempDir())
	for path, want := range map[string]string{"/": "console", "/recordings/abc?x=1": "console", "/assets/a.js": "1", "/index.html": "console"} {
		status, h, said := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusOK, status, path)
		assert.Contains(t, string(said), want, path)
		assert.Contains(t, h.Get("Content-Security-Policy"), "default-src 'none'")
	}
	status, _, said := r.do(http.MethodGet, "/healthz", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.JSONEq(t, `{"status":"ok","version":"test"}`, string(said))
}

// TestLive checks that a listener hears of a recording while it is being written and when it has ended.
func TestLive(t *testing.T) {
	r := start(t, t.TempDir())
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, r.URL+"/api/v1/live", nil)
	require.NoError(t, err)
	res, err := r.Client().Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	all := sample(t)
	status, _, _ := r.do(http.MethodPut, "/api/v1/streams/h-1/batches/1", lines(all[:6]))
	require.Equal(t, http.StatusOK, status)
	states := []string{}
	buf := make([]byte, 64<<10)
	text := ""
	for len(states) < 2 {
		n, err := res.Body.Read(buf)
		require.NoError(t, err)
		text += string(buf[:n])
		for strings.Contains(text, "\n\n") {
			message, rest, _ := strings.Cut(text, "\n\n")
			text = rest
			data, ok := strings.CutPrefix(message, "event: recording\ndata: ")
			if !ok {
				continue
			}
			var s views.Summary
			require.NoError(t, json.Unmarshal([]byte(data), &s))
			if !slices.Contains(states, s.State) {
				states = append(states, s.State)
				status, _, _ := r.do(http.MethodPut, "/api/v1/streams/h-1/batches/2", lines(all[6:]))
				require.Equal(t, http.StatusOK, status)
			}
		}
	}
	assert.Equal(t, []string{"running", "ended"}, states)
}

// TestOpenAPI holds the document to the routes: each is described, and nothing else is.
func TestOpenAPI(t *testing.T) {
	r := start(t, t.TempDir())
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	r.json("/api/v1/openapi.json", &doc)
	assert.True(t, strings.HasPrefix(doc.OpenAPI, "3.1"))
	described := []string{}
	for path, methods := range doc.Paths {
		for method := range methods {
			described = append(described, strings.ToUpper(method)+" "+path)
		}
	}
	routes := []string{}
	param := regexp.MustCompile(`[:*](\w+)`)
	for _, route := range r.Config.Handler.(interface{ Routes() gin.RoutesInfo }).Routes() {
		routes = append(routes, route.Method+" "+param.ReplaceAllString(route.Path, "{$1}"))
	}
	slices.Sort(described)
	slices.Sort(routes)
	assert.Equal(t, routes, described)
}

// TestAnswersFitTheDocument validates what the API really answers against the document's schemas.
func TestAnswersFitTheDocument(t *testing.T) {
	r := start(t, t.TempDir())
	status, _, said := r.do(http.MethodPost, "/api/v1/recordings", lines(sample(t)))
	require.Equal(t, http.StatusCreated, status)
	schemas := documentSchemas(t, r)
	id := r.findings("latest").Findings[0].ID
	check := func(name string, body []byte) {
		var value any
		require.NoError(t, json.Unmarshal(body, &value))
		assert.NoError(t, schemas(name).Validate(value), name)
	}
	check("Recording", said)
	for path, name := range map[string]string{
		"/api/v1/recordings": "RecordingList", "/api/v1/recordings/latest": "RecordingDetail",
		"/api/v1/recordings/latest/findings": "Findings", "/api/v1/recordings/latest/findings/" + id: "FindingDetail", "/healthz": "Up",
	} {
		_, _, body := r.do(http.MethodGet, path, nil)
		check(name, body)
	}
	_, _, body := r.do(http.MethodGet, "/api/v1/recordings/none", nil)
	check("Problem", body)
	_, _, body = r.do(http.MethodPut, "/api/v1/streams/new/batches/4", nil)
	check("OutOfTurn", body)
	_, _, body = r.do(http.MethodPut, "/api/v1/streams/h-1/batches/1", lines(sample(t)))
	check("Accepted", body)
	assert.NotContains(t, string(body), "null")
}

// TestImportDuringResume checks that what is still to be done after a start leaves alone a file that came in meanwhile.
func TestImportDuringResume(t *testing.T) {
	r := start(t, t.TempDir())
	office, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	half := bytes.IndexByte(office, '\n') + 1
	in, out := io.Pipe()
	done := make(chan int, 1)
	go func() {
		status, _, _ := r.do(http.MethodPost, "/api/v1/recordings", in)
		done <- status
	}()
	_, err = out.Write(office[:half])
	require.NoError(t, err)
	var list views.RecordingList
	require.Eventually(t, func() bool {
		r.json("/api/v1/recordings", &list)
		return len(list.Recordings) == 1
	}, 10*time.Second, 5*time.Millisecond)
	require.NoError(t, r.hub.Resume(t.Context()))
	_, err = out.Write(office[half:])
	require.NoError(t, err)
	require.NoError(t, out.Close())
	assert.Equal(t, http.StatusCreated, <-done)
	assert.NotEmpty(t, r.findings(list.Recordings[0].ID).Findings)
}

// TestManyStreams checks that a recording takes so many streams, and the next ones another.
func TestManyStreams(t *testing.T) {
	r := start(t, t.TempDir())
	begin := func(app string, n int) string {
		stream := fmt.Sprintf("%s-%d", app, n)
		for {
			status, _, said := r.do(http.MethodPut, "/api/v1/streams/"+stream+"/batches/1",
				strings.NewReader(`{"ev":"hello","t":0,"format":"lantern/1","app":"`+app+`","stream":"`+stream+`","start":"2026-03-02T06:00:00Z"}`+"\n"))
			if status == http.StatusServiceUnavailable || status == http.StatusTooManyRequests {
				continue // it is busy
			}
			var took struct{ Recording string }
			assert.Equal(t, http.StatusOK, status, "%s", said)
			assert.NoError(t, json.Unmarshal(said, &took))
			return took.Recording
		}
	}
	for n := range 300 {
		begin("harbour", n)
	}
	into := make(chan string, 400)
	for n := range cap(into) {
		go func() { into <- begin("pilots", n) }()
	}
	streams := map[string]int{}
	for range cap(into) {
		streams[<-into]++
	}
	for _, n := range streams {
		assert.LessOrEqual(t, n, 256, "also where they begin at once")
	}
	var list views.RecordingList
	r.json("/api/v1/recordings", &list)
	before := len(list.Recordings)
	assert.Equal(t, 2, before-len(streams))
	file := ""
	for n := range 257 {
		file += fmt.Sprintf(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"f-%d","start":"2026-03-02T06:00:00Z"}`+"\n", n)
	}
	status, _, said := r.do(http.MethodPost, "/api/v1/recordings", strings.NewReader(file))
	assert.Equal(t, http.StatusUnprocessableEntity, status, "%s", said)
	assert.Contains(t, string(said), "more than 256 streams")
	r.json("/api/v1/recordings", &list)
	assert.Len(t, list.Recordings, before, "and it leaves nothing behind")
}
