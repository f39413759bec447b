package wired_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"

	"keenlantern.example/record"
	"keenlantern.example/record/wired"
)

type clock struct{ wall string }

type tides interface{ Level() int }

type gauge struct{ level int }

func (g *gauge) Level() int { return g.level }

type remembering struct {
	inner tides
	last  int
}

func (r *remembering) Level() int {
	if r.last == 0 {
		r.last = r.inner.Level()
	}
	return r.last
}

type ledger struct {
	clock  *clock
	tides  tides
	closed *[]string
}

func (l *ledger) Close() error {
	*l.closed = append(*l.closed, "ledger")
	return nil
}

func Example() {
	rec, err := record.Start(record.Config{App: "harbour", Output: os.Stderr, Off: true})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer rec.Close(context.Background())
	w := wired.New(rec)
	defer w.Close()
	source := wired.Provide(w, wired.Singleton, func(*wired.Building) (tides, error) { return &gauge{level: 4}, nil })
	wired.Decorate(source, func(_ *wired.Building, inner tides) (tides, error) { return &remembering{inner: inner}, nil })

	scope := w.Open(record.Scope{Kind: "request", Name: "GET /tides"})
	defer scope.Close()
	t, err := source.Get(scope.Entry("GET /tides"))
	fmt.Println(t.Level(), err)
	// Output: 4 <nil>
}

// TestWiring checks that lifetimes are kept, and that each step is recorded as it happens.
func TestWiring(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	if err != nil {
		t.Fatal(err)
	}
	var closed []string
	w := wired.New(rec)
	clocks := wired.Provide(w, wired.Singleton, func(*wired.Building) (*clock, error) { return &clock{"office"}, nil },
		wired.DisposeWith(func(*clock) error { closed = append(closed, "clock"); return errors.New("it stood still") }))
	source := wired.Provide(w, wired.Scoped, func(*wired.Building) (tides, error) { return &gauge{level: 4}, nil }, wired.Key("gauge"))
	wired.Decorate(source, func(_ *wired.Building, inner tides) (tides, error) { return &remembering{inner: inner}, nil })
	ledgers := wired.Provide(w, wired.Transient, func(b *wired.Building) (*ledger, error) {
		c, err1 := clocks.Get(b)
		s, err2 := source.Get(b)
		return &ledger{clock: c, tides: s, closed: &closed}, errors.Join(err1, err2)
	})
	broken := wired.Provide(w, wired.Scoped, func(*wired.Building) (*gauge, error) { return nil, errors.New("no line") })

	scope := w.Open(record.Scope{Kind: "request", Name: "GET /berths"})
	var wg sync.WaitGroup
	got := make([]*ledger, 4)
	for n := range got {
		wg.Add(1)
		go func() {
			defer wg.Done()
			got[n], _ = ledgers.Get(scope.Entry("GET /berths"))
		}()
	}
	wg.Wait()
	for _, l := range got {
		if l == nil || l.tides != got[0].tides || l.clock != got[0].clock || l.tides.Level() != 4 {
			t.Fatalf("got %+v", got)
		}
	}
	if got[0] == got[1] {
		t.Error("one transient twice")
	}
	if _, err := broken.Get(scope); err == nil || !strings.Contains(err.Error(), "no line") {
		t.Errorf("got %v", err)
	}
	if err := errors.Join(scope.Close(), scope.Close()); err != nil || len(closed) != 4 {
		t.Errorf("%v, %v", err, closed)
	}
	if _, err := ledgers.Get(scope); !errors.Is(err, wired.ErrClosed) {
		t.Errorf("from a closed scope: %v", err)
	}
	if err := w.Close(); err == nil || closed[4] != "clock" {
		t.Errorf("%v, %v", err, closed)
	}
	if err := rec.Close(t.Context()); err != nil {
		t.Fatal(err)
	}
	n := map[string]int{}
	kinds := []string{}
	for line := range bytes.Lines(out.Bytes()) {
		var e map[string]any
		if err := json.Unmarshal(line, &e); err != nil {
			t.Fatal(err)
		}
		kind := e["ev"].(string)
		n[kind]++
		if !slices.Contains(kinds, kind) {
			kinds = append(kinds, kind)
		}
		if e["state"] == "failed" && e["error"] != "*errors.errorString" {
			t.Errorf("got %v", e)
		}
	}
	// Five registrations with the layer; the clock, the gauge, the layer and four ledgers; the scope and the root.
	if n["register"] != 5 || n["make"] != 7 || n["give"] != 4 || n["fail"] != 2 || n["dispose"] != 10 || n["close"] != 2 {
		t.Errorf("got %v in %v", n, kinds)
	}
}
