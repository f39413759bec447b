package record_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"keenlantern.example/record"
)

// The recorder stands on the standard library alone, and so do its tests.

// events reads the lines of a trace.
func events(t *testing.T, text string) []map[string]any {
	t.Helper()
	var list []map[string]any
	for line := range strings.Lines(text) {
		var e map[string]any
		if err := json.Unmarshal([]byte(line), &e); err != nil {
			t.Fatalf("%v: %s", err, line)
		}
		list = append(list, e)
	}
	return list
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func closing(t *testing.T, rec *record.Recorder) error {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	return rec.Close(ctx)
}

func TestLines(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Version: "1", Environment: "test", Output: &out})
	must(t, err)
	tides := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped", Key: "gauge", Disposable: true, At: "wiring.go:3"})
	s := rec.Open(record.Scope{Kind: "request", Name: "GET /tides"})
	i := rec.Make(record.Making{Reg: tides, Scope: s, Took: time.Millisecond})
	rec.Give(record.Giving{Inst: i, Scope: s, Entry: "GET /tides", How: "locator"})
	rec.Use(i, 0, s, time.Microsecond)
	rec.Dispose(i, s, "container", record.Done, 0, errors.New("the line is down"))
	rec.CloseScope(s)
	rec.Fail(record.Failure{Service: "LogBook", Why: "missing"})
	must(t, closing(t, rec))
	must(t, closing(t, rec))
	rec.Open(record.Scope{}) // after the end: ignored
	kinds := []string{}
	last := -1.0
	list := events(t, out.String())
	for _, e := range list {
		kinds = append(kinds, e["ev"].(string))
		if e["t"].(float64) < last {
			t.Errorf("times go back: %v", e)
		}
		last = e["t"].(float64)
	}
	if got := strings.Join(kinds, " "); got != "hello register open make give use dispose close fail bye" {
		t.Errorf("got %s", got)
	}
	if d := list[6]; d["state"] != "failed" || d["error"] != "*errors.errorString" {
		t.Errorf("got %v", d)
	}
}

func TestNilDoesNothing(t *testing.T) {
	var rec *record.Recorder
	s := rec.Open(record.Scope{Kind: "request"})
	i := rec.Make(record.Making{Scope: s})
	rec.Give(record.Giving{Inst: i})
	rec.Know(new(int), i)
	record.Call(rec.In(t.Context(), s), new(int), nil)()
	rec.CloseScope(s)
	must(t, rec.Close(t.Context()))
}

// service takes batches as the real one does, and can be away, busy or refuse.
type service struct {
	*httptest.Server
	mu     sync.Mutex
	status int // 0: take it
	text   strings.Builder
	next   int
	tries  int
}

func newService(t *testing.T) *service {
	s := &service{next: 1}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.tries++
		if s.status != 0 {
			w.Header().Set("Retry-After", "0")
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(s.status)
			return
		}
		body, _ := io.ReadAll(r.Body)
		var stream string
		var batch int
		if n, _ := fmt.Sscanf(strings.ReplaceAll(r.URL.Path, "/", " "), " api v1 streams %s batches %d", &stream, &batch); n != 2 {
			w.WriteHeader(http.StatusNotFound) // how it is doing
			return
		}
		s.text.Write(body)
		s.next++
		acknowledge(w, stream, batch)
	}))
	t.Cleanup(s.Close)
	return s
}

// acknowledge answers as the service does when it has stored a batch.
func acknowledge(w http.ResponseWriter, stream string, batch int) {
	w.Header().Set("Content-Type", "application/json; charset=utf-8")
	fmt.Fprintf(w, `{"recording":"abcdefgh","stream":%q,"batch":%d,"lines":1}`, stream, batch)
}

func (s *service) set(status int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.status = status
}

func (s *service) took() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// TestServiceAway checks that memory stays bounded while the service is away, that what did not fit is counted, and that
// a service which comes back gets the rest, nothing twice.
func TestServiceAway(t *testing.T) {
	s := newService(t)
	s.set(http.StatusServiceUnavailable)
	troubles := make(chan error, 100)
	rec, err := record.Start(record.Config{
		App: "harbour", Service: s.URL, Memory: 256 << 10, BatchSize: 16 << 10, FlushWait: 5 * time.Millisecond,
		Problem: func(err error) { troubles <- err },
	})
	must(t, err)
	const many = 10_000
	for range many {
		rec.CloseScope(rec.Open(record.Scope{Kind: "request", Name: "GET /tides/{gauge}"}))
	}
	during := rec.Totals()
	if during.Lost == 0 || during.Bytes > 512<<10 {
		t.Errorf("nothing was dropped, or too much kept: %+v", during)
	}
	select {
	case <-troubles:
	case <-time.After(5 * time.Second):
		t.Error("the problem was not reported")
	}
	s.set(0)
	deadline := time.Now().Add(10 * time.Second)
	for rec.Totals().Delivered < 5 && time.Now().Before(deadline) {
		time.Sleep(10 * time.Millisecond)
	}
	must(t, closing(t, rec))
	lost, scopes, byes := 0, map[float64]bool{}, 0
	for _, e := range events(t, s.took()) {
		switch e["ev"] {
		case "gap":
			lost += int(e["lost"].(float64))
		case "open":
			id := e["scope"].(float64)
			if scopes[id] {
				t.Errorf("scope %v came twice", id)
			}
			scopes[id] = true
		case "bye":
			byes++
		}
	}
	after := rec.Totals()
	if int64(lost) != after.Lost || byes != 1 {
		t.Errorf("%d were reported lost, %d were; %d byes", lost, after.Lost, byes)
	}
	if got := int64(len(events(t, s.took()))); got != after.Events {
		t.Errorf("%d events came, %d were written", got, after.Events)
	}
}

func TestRefusedForGood(t *testing.T) {
	s := newService(t)
	s.set(http.StatusUnprocessableEntity)
	rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, FlushWait: time.Millisecond})
	must(t, err)
	rec.Open(record.Scope{})
	if err := closing(t, rec); err == nil || !strings.Contains(err.Error(), "refused") {
		t.Errorf("got %v", err)
	}
}

// TestCloseIsBounded checks that a service which never answers does not keep an application from ending.
func TestCloseIsBounded(t *testing.T) {
	s := newService(t)
	s.set(http.StatusServiceUnavailable)
	rec, err := record.Start(record.Config{App: "harbour", Service: s.URL})
	must(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if err := rec.Close(ctx); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("got %v", err)
	}
	s.set(0)
}

func TestManyAtOnce(t *testing.T) {
	s := newService(t)
	rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, FlushWait: time.Millisecond, BatchSize: 4 << 10, Memory: 64 << 20})
	must(t, err)
	var wg sync.WaitGroup
	for range 8 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for range 500 {
				id := rec.Open(record.Scope{Kind: "request"})
				v := &struct{ n int }{}
				rec.Know(v, rec.Make(record.Making{Scope: id}))
				record.Call(rec.In(context.Background(), id), v, nil)()
				rec.CloseScope(id)
			}
		}()
	}
	wg.Wait()
	must(t, closing(t, rec))
	n := map[any]int{}
	for _, e := range events(t, s.took()) {
		n[e["ev"]]++
	}
	if n["open"] != 4000 || n["make"] != 4000 || n["use"] != 4000 || n["close"] != 4000 || n["bye"] != 1 {
		t.Errorf("got %v", n)
	}
}

func TestHandler(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	must(t, err)
	mux := http.NewServeMux()
	scopes := []record.ScopeID{}
	mux.HandleFunc("GET /tides/{gauge}", func(_ http.ResponseWriter, r *http.Request) {
		scopes = append(scopes, record.ScopeOf(r.Context()))
	})
	h := record.Handler(rec, mux)
	for _, header := range []string{"00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", "nonsense", ""} {
		req := httptest.NewRequest("GET", "/tides/outer-bar", nil)
		req.Header.Set("traceparent", header)
		h.ServeHTTP(httptest.NewRecorder(), req)
	}
	h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/made/up/by/a/client", nil))
	mux.HandleFunc("GET /tides/{gauge}/{$}", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("GET /berths/{berth}/", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("/pilots", func(http.ResponseWriter, *http.Request) {})
	h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("GET", "/berths/made-up", nil)) // a redirect to the path and a slash
	h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest("MADEUP", "/pilots", nil))
	must(t, closing(t, rec))
	var names, traces []any
	for _, e := range events(t, out.String()) {
		if e["ev"] == "open" {
			names, traces = append(names, e["name"]), append(traces, e["trace"])
		}
	}
	if len(names) != 6 || names[0] != "GET /tides/{gauge}" || names[3] != "GET" || names[4] != "GET" || names[5] != "OTHER /pilots" {
		t.Errorf("got %v", names)
	}
	if traces[0] != "4bf92f3577b34da6a3ce929d0e0e4736" || len(traces[1].(string)) != 32 || traces[1] == traces[2] {
		t.Errorf("got %v", traces)
	}
	if len(scopes) != 3 || scopes[0] == 0 || scopes[0] == scopes[1] {
		t.Errorf("got %v", scopes)
	}
}

func TestConfig(t *testing.T) {
	for _, cfg := range []record.Config{{}, {App: "a"}, {App: "a", Service: "http://127.0.0.1:1", Output: io.Discard}} {
		if _, err := record.Start(cfg); err == nil {
			t.Errorf("%+v was taken", cfg)
		}
	}
}
