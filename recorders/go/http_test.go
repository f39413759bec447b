package record_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"keenlantern.example/record"
)

// TestTraces checks that one trace-id goes through two applications and a job between them, and that a traceparent of
// the caller's own stays.
func TestTraces(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	must(t, err)
	seen := []string{}
	inner := httptest.NewServer(record.Named(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Header.Get("traceparent"))
	}), func(*http.Request) string { return "tide gauge" }))
	defer inner.Close()
	client := &http.Client{Transport: record.Transport(nil)}
	call := func(ctx context.Context, header string) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, inner.URL, nil)
		must(t, err)
		if header != "" {
			req.Header.Set("traceparent", header)
		}
		res, err := client.Do(req)
		must(t, err)
		return res.Body.Close()
	}
	outer := record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		must(t, rec.Run(r.Context(), "step", "read the gauge", func(ctx context.Context) error { return call(ctx, "") }))
		must(t, call(r.Context(), "00-11111111111111111111111111111111-2222222222222222-00"))
	}))
	req := httptest.NewRequest(http.MethodGet, "/", nil)
	req.Header.Set("traceparent", "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01")
	outer.ServeHTTP(httptest.NewRecorder(), req)
	if err := rec.Run(t.Context(), "job", "fails", func(context.Context) error { return io.ErrClosedPipe }); !errors.Is(err, io.ErrClosedPipe) {
		t.Errorf("got %v", err)
	}
	must(t, closing(t, rec))
	got := []string{}
	for _, e := range events(t, out.String()) {
		if e["ev"] == "open" {
			got = append(got, e["kind"].(string)+" "+e["name"].(string)+" "+e["trace"].(string)[:4])
		}
	}
	want := "request GET 4bf9, step read the gauge 4bf9, request tide gauge 4bf9, request tide gauge 1111, job fails"
	if text := strings.Join(got, ", "); !strings.HasPrefix(text, want) {
		t.Errorf("got %s", text)
	}
	if len(seen) != 2 || !strings.HasPrefix(seen[0], "00-4bf92f3577b34da6a3ce929d0e0e4736-") || strings.Contains(seen[0], "00f067aa0ba902b7") {
		t.Errorf("sent on %v", seen)
	}
}

// TestFile checks that a recording goes to a file, plain or packed, and never over one that is there.
func TestFile(t *testing.T) {
	folder := t.TempDir()
	for _, name := range []string{"a.ndjson", "a.ndjson.gz", "a.ndjson.up"} {
		path := filepath.Join(folder, name)
		file, err := record.File(path, map[string]record.Pack{".up": func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }})
		must(t, err)
		rec, err := record.Start(record.Config{App: "harbour", Output: file})
		must(t, err)
		rec.CloseScope(rec.Open(record.Scope{Kind: "job"}))
		must(t, closing(t, rec))
		must(t, file.Close())
		text, err := os.ReadFile(path)
		must(t, err)
		if name != "a.ndjson" {
			z, err := gzip.NewReader(bytes.NewReader(text))
			must(t, err)
			text, err = io.ReadAll(z)
			must(t, err)
		}
		if got := kinds(events(t, string(text))); got != "hello open close bye" {
			t.Errorf("%s: got %s", name, got)
		}
		if _, err := record.File(path, nil); err == nil {
			t.Errorf("%s: written over", name)
		}
	}
	if _, err := record.File(filepath.Join(folder, "b.zst"), nil); err == nil {
		t.Error("zst without a pack")
	}
}
