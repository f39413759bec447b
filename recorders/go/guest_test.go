package record_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"
	"unsafe"

	"keenlantern.example/record"
)

// TestOnlyAnAcknowledgementCounts checks that a batch is kept until the service itself acknowledges it: not a sign-in
// page, not another batch's answer, not whatever stands behind a redirect, to which nothing is sent.
func TestOnlyAnAcknowledgementCounts(t *testing.T) {
	var elsewhere atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		elsewhere.Add(1)
		fmt.Fprint(w, "<html>sign in</html>")
	}))
	defer other.Close()
	for name, answer := range map[string]func(http.ResponseWriter, *http.Request){
		"redirect": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, other.URL+"/login", http.StatusFound)
		},
		"page":        func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<html>sign in</html>") },
		"other batch": func(w http.ResponseWriter, r *http.Request) { acknowledge(w, "another", 7) },
		"no body":     func(w http.ResponseWriter, r *http.Request) { w.Header().Set("Content-Type", "application/json") },
		"not here":    func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusNoContent) },
		"half an answer": func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Length", "100")
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{"stream":`)
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newService(t)
			var trouble atomic.Int64
			real := s.Config.Handler
			s.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if strings.Contains(r.URL.Path, "/batches/") && trouble.Add(1) == 1 {
					answer(w, r)
					return
				}
				real.ServeHTTP(w, r)
			})
			told := make(chan error, 100)
			rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, Token: "secret", FlushWait: time.Millisecond, Problem: func(err error) { told <- err }})
			must(t, err)
			rec.Open(record.Scope{Kind: "request"})
			must(t, closing(t, rec))
			if got := s.took(); strings.Count(got, `"ev":"hello"`) != 1 || !strings.Contains(got, `"ev":"open"`) || !strings.Contains(got, `"ev":"bye"`) {
				t.Errorf("got %s", got)
			}
			if len(told) == 0 {
				t.Error("no problem was reported")
			}
		})
	}
	if elsewhere.Load() != 0 {
		t.Errorf("%d requests went where they were redirected", elsewhere.Load())
	}
}

// TestAsksWithPatience has a service that answers at once, whatever it is asked: as one whose folder was replaced, and as
// one that repeats its order.
func TestAsksWithPatience(t *testing.T) {
	var asked, version atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"version":%d,"on":false}`, version.Load())
	}))
	defer s.Close()
	version.Store(5)
	rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, Off: true})
	must(t, err)
	defer closing(t, rec)
	time.Sleep(300 * time.Millisecond)
	version.Store(0)
	time.Sleep(1700 * time.Millisecond)
	if n := asked.Load(); n < 2 || n > 6 {
		t.Errorf("asked %d times in two seconds", n)
	}
}

var global struct{ n int }

// TestKnowsAnyMemory checks that objects the runtime does not manage are known, and not watched.
func TestKnowsAnyMemory(t *testing.T) {
	rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard})
	must(t, err)
	defer closing(t, rec)
	mapped := mapped(t)
	type outer struct{ first struct{ n int } }
	o := &outer{}
	for n, v := range []any{(*outer)(unsafe.Pointer(&mapped[0])), &global, o, &o.first} {
		id := record.InstID(n + 1)
		rec.Know(v, id)
		if got := rec.Of(v); got != id {
			t.Errorf("%T is instance %d, and was taken for %d", v, id, got)
		}
	}
	for _, v := range []any{nil, 3, struct{}{}, &struct{}{}, (*outer)(nil), "text", []int{1}} {
		rec.Know(v, 99)
		if rec.Of(v) != 0 {
			t.Errorf("%T has an identity", v)
		}
	}
	if got := rec.Of(o); got != 3 {
		t.Errorf("a struct was taken for its first field: %d", got)
	}
	runtime.KeepAlive(o)
}

// TestMemoryIsKept holds the recorder to its memory with more singletons than fit, and with long names.
func TestMemoryIsKept(t *testing.T) {
	const many = 100_000
	long := strings.Repeat("x", 4000)
	type thing struct{ _, _ int }
	things := make([]*thing, many)
	for n := range things {
		things[n] = &thing{}
	}
	before := live()
	block := make(chan struct{})
	rec, err := record.Start(record.Config{App: "harbour", Output: writer(func(p []byte) (int, error) { <-block; return len(p), nil })})
	must(t, err)
	reg := rec.Register(record.Registration{Service: "Berth", Lifetime: "singleton"})
	for n := range things {
		rec.Know(things[n], rec.Make(record.Making{Reg: reg, Impl: fmt.Sprint(n, long)}))
		rec.Register(record.Registration{Service: fmt.Sprint("Berth", n, long[:100]), Lifetime: "singleton"})
		rec.CloseScope(rec.Open(record.Scope{Kind: "request", Name: fmt.Sprint(n, long)}))
	}
	if used := live() - before; used > 10<<20 {
		t.Errorf("%d KiB for a bound of 8 MiB", used>>10)
	}
	if rec.Totals().Lost == 0 {
		t.Error("nothing was counted as lost")
	}
	close(block)
	must(t, closing(t, rec))
	runtime.KeepAlive(things)
}

func live() int64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// BenchmarkRegister measures what a registration takes among few and among many: it should be the same.
func BenchmarkRegister(b *testing.B) {
	for _, many := range []int{1_000, 10_000, 100_000} {
		b.Run(fmt.Sprint(many), func(b *testing.B) {
			for b.Loop() {
				rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard, Off: true})
				if err != nil {
					b.Fatal(err)
				}
				for range many {
					rec.Register(record.Registration{Service: "Berth", Lifetime: "singleton"})
				}
				_ = rec.Close(b.Context())
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(many), "ns/registration")
		})
	}
}
