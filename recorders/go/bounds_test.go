package record_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// TestMemoryIsWhatIsHeld checks that buffers stay within the bound while the service is away and scopes go on, what they have room for
// counted, and that what is recorded goes on once it is back, although scopes never pause.
func TestMemoryIsWhatIsHeld(t *testing.T) {
	s := newService(t)
	s.set(http.StatusServiceUnavailable)
	const memory = 2 << 20
	rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, Memory: memory, FlushWait: 2 * time.Millisecond, Problem: func(error) {}})
	must(t, err)
	stop := make(chan struct{})
	var busy sync.WaitGroup
	for range 4 {
		busy.Add(1)
		go func() {
			defer busy.Done()
			for {
				select {
				case <-stop:
					return
				default:
				}
				for range 10 {
					rec.CloseScope(rec.Open(record.Scope{Kind: "request", Name: "GET /tides/{gauge}"}))
				}
				time.Sleep(time.Millisecond)
			}
		}()
	}
	most := 0
	for range 300 {
		time.Sleep(5 * time.Millisecond)
		most = max(most, rec.Held())
	}
	if most > memory {
		t.Errorf("%d bytes are held, of %d", most, memory)
	}
	before := rec.Totals()
	if before.Lost == 0 {
		t.Error("nothing was lost, so that nothing was tried")
	}
	s.set(0)
	for began := time.Now(); rec.Totals().Events < before.Events+1000; time.Sleep(5 * time.Millisecond) {
		if time.Since(began) > 20*time.Second {
			t.Fatalf("it does not go on: %+v", rec.Totals())
		}
	}
	close(stop)
	busy.Wait()
	must(t, closing(t, rec))
}

// TestBurst checks that an application that starts, with thousands of registrations and singletons at once, loses nothing.
func TestBurst(t *testing.T) {
	for range 5 {
		var out bytes.Buffer
		rec, err := record.Start(record.Config{App: "harbour", Output: &out})
		must(t, err)
		needs := make([]event.Need, 8)
		for n := range needs {
			needs[n] = event.Need{Site: fmt.Sprintf("part%d", n), Service: "example.org/harbour/operations.Clearances"}
		}
		for n := range 2000 {
			reg := rec.Register(record.Registration{Service: fmt.Sprintf("example.org/harbour/operations.Service%d", n), Lifetime: "singleton", Needs: needs, At: "wiring.go:41"})
			rec.Make(record.Making{Reg: reg, By: "factory", Impl: "example.org/harbour/operations.Service"})
		}
		must(t, closing(t, rec))
		if totals := rec.Totals(); totals.Lost != 0 || totals.Events != 4002 {
			t.Errorf("got %+v", totals)
		}
	}
}

// TestNothingIsLeft checks that a second after Close neither a goroutine nor a connection of the recorder is left: after it has delivered,
// and after it has given up on a service that does not answer.
func TestNothingIsLeft(t *testing.T) {
	for _, stalls := range []bool{false, true} {
		t.Run(fmt.Sprintf("stalls: %t", stalls), func(t *testing.T) {
			var open atomic.Int64
			gone := make(chan struct{})
			s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				_, _ = io.Copy(io.Discard, r.Body)
				if stalls || !strings.Contains(r.URL.Path, "/batches/") {
					select {
					case <-gone:
					case <-r.Context().Done():
					}
					return
				}
				parts := strings.Split(r.URL.Path, "/")
				acknowledge(w, parts[4], 1)
			}))
			s.Config.ConnState = func(_ net.Conn, state http.ConnState) {
				switch state {
				case http.StateNew:
					open.Add(1)
				case http.StateClosed, http.StateHijacked:
					open.Add(-1)
				}
			}
			s.Start()
			defer s.Close()
			defer close(gone)
			before := runtime.NumGoroutine()
			rec, err := record.Start(record.Config{App: "harbour", Service: s.URL, CloseWait: 100 * time.Millisecond, BatchSize: 1 << 20, FlushWait: time.Hour, Problem: func(error) {}})
			must(t, err)
			rec.Open(record.Scope{Kind: "request"})
			began := time.Now()
			err = rec.Close(context.Background())
			if took := time.Since(began); took > 5*time.Second {
				t.Errorf("Close took %v", took)
			}
			if stalls != errors.Is(err, context.DeadlineExceeded) {
				t.Errorf("got %v", err)
			}
			for began := time.Now(); open.Load() > 0 || runtime.NumGoroutine() > before; time.Sleep(5 * time.Millisecond) {
				if time.Since(began) > time.Second {
					stacks := make([]byte, 1<<16)
					t.Fatalf("%d connections and %d goroutines are left\n%s", open.Load(), runtime.NumGoroutine()-before, stacks[:runtime.Stack(stacks, true)])
				}
			}
		})
	}
}

// TestSaidOnce checks that what keeps a recorder without a Problem from delivering stands on standard error, once, with the setting's name,
// and that the application starts all the same.
func TestSaidOnce(t *testing.T) {
	refusing := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, `{"title":"unauthorized"}`)
	}))
	defer refusing.Close()
	for name, one := range map[string]struct{ service, says string }{
		"no scheme":        {"lantern.example:7460", "Config.Service"},
		"no scheme at all": {"localhost", "Config.Service"},
		"a misspelt one":   {"htp://lantern.example:7460", "Config.Service"},
		"a dead service":   {"http://127.0.0.1:1", "connection refused"},
		"a wrong token":    {refusing.URL, "Config.Token"},
	} {
		t.Run(name, func(t *testing.T) {
			read, write, err := os.Pipe()
			must(t, err)
			stderr := os.Stderr
			os.Stderr = write
			rec, err := record.Start(record.Config{App: "harbour", Service: one.service, FlushWait: time.Millisecond, CloseWait: 500 * time.Millisecond})
			for range 20 {
				rec.CloseScope(rec.Open(record.Scope{Kind: "request"}))
				time.Sleep(2 * time.Millisecond)
			}
			closed := rec.Close(context.Background())
			os.Stderr = stderr
			must(t, write.Close())
			must(t, err)
			said, err := io.ReadAll(read)
			must(t, err)
			if strings.Count(string(said), "\n") != 1 || !strings.Contains(string(said), one.says) {
				t.Errorf("got %q", said)
			}
			if closed == nil {
				t.Error("Close does not say that nothing was delivered")
			}
		})
	}
}
