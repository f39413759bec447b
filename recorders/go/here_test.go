package record_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// TestHere checks that work is found by its goroutine where an adapter needs that, and nowhere else.
func TestHere(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	must(t, err)
	if _, ok := rec.Here(); ok {
		t.Error("it is not needed")
	}
	rec.Follow()
	h := record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		here, ok := rec.Here()
		if !ok || here != record.ScopeOf(r.Context()) {
			t.Errorf("got %d, %v", here, ok)
		}
		must(t, rec.Run(r.Context(), "step", "inner", func(ctx context.Context) error {
			if inner, _ := rec.Here(); inner == here || inner != record.ScopeOf(ctx) {
				t.Errorf("got %d in %d", inner, here)
			}
			return nil
		}))
		if again, _ := rec.Here(); again != here {
			t.Errorf("got %d after the step", again)
		}
		elsewhere := make(chan bool)
		go func() { _, ok := rec.Here(); elsewhere <- ok }()
		if <-elsewhere {
			t.Error("another goroutine has no scope")
		}
	}))
	h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(http.MethodGet, "/", nil))
	if _, ok := rec.Here(); ok {
		t.Error("the request is over")
	}
	rec.Set(record.Setting{})
	h2 := record.Handler(rec, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		if _, ok := rec.Here(); ok || rec.On() {
			t.Error("nothing is recorded")
		}
	}))
	h2.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(http.MethodGet, "/", nil))
	must(t, closing(t, rec))
}

// TestKept checks that what something lasting keeps of a scope that was not recorded is written when recording begins, once and as
// it is by then, and that each stream says why it ended.
func TestKept(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out, Off: true})
	must(t, err)
	reg := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
	roster := rec.Register(record.Registration{Service: "PilotRoster", Lifetime: "singleton"})
	scope := &record.KeptScope{Kind: "request"}
	inner := rec.Keep(record.Making{Reg: reg}, scope)
	kept := rec.Keep(record.Making{Reg: reg, With: []event.With{{Inst: inner}}}, scope)
	rec.Make(record.Making{Reg: roster, With: []event.With{{Inst: kept}}, When: time.Now().Add(-time.Hour)})
	rec.Again(roster, record.Registration{
		Service: "PilotRoster", Lifetime: "singleton", Also: []event.Also{{Service: "Roster"}}, Sees: []string{"with"}, Disposer: "code",
	})
	rec.Dispose(inner, 0, "container", record.Done, 0, nil)
	rec.CloseKept(scope)
	for range 2 {
		rec.Set(record.Setting{On: true})
		rec.Set(record.Setting{})
	}
	rec.Set(record.Setting{On: true})
	s := rec.Open(record.Scope{})
	rec.Make(record.Making{Reg: reg, Scope: 0, Owner: record.OwnedBy(s)})
	rec.Make(record.Making{Reg: reg, Scope: s, Owner: record.OwnedByKeeper()})
	rec.Set(record.Setting{On: true, Share: 0.5})
	must(t, closing(t, rec))
	list := streams(t, out.String())
	if len(list) != 4 {
		t.Fatalf("%d streams", len(list))
	}
	for n, want := range []string{event.SwitchedOff, event.SwitchedOff, event.GoesOn, ""} {
		bye := list[n][len(list[n])-1]
		if why, _ := bye["why"].(string); bye["ev"] != "bye" || why != want {
			t.Errorf("stream %d ended with %v, want %q", n, bye, want)
		}
		if got := kinds(list[n][:10]); got != "hello register register register open make make make dispose close" {
			t.Errorf("stream %d begins with %s", n, got)
		}
		if made := list[n][7]; made["t"].(float64) > -3.5e12 || fmt.Sprint(made["with"]) != "[2]" {
			t.Errorf("built an hour before: %v", made)
		}
	}
	for _, want := range []string{`"owner":2}`, `"owner":null`, `"also":[{"service":"Roster"}]`, `"sees":["with"]`} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("no %s in %s", want, out.String())
		}
	}
}

// TestFileReplace checks that a file takes another one's place only when asked to.
func TestFileReplace(t *testing.T) {
	path := filepath.Join(t.TempDir(), "harbour.ndjson")
	must(t, os.WriteFile(path, []byte("much more than will be written"), 0o600))
	if _, err := record.File(path, nil); !os.IsExist(err) && !strings.Contains(fmt.Sprint(err), "exists") {
		t.Errorf("got %v", err)
	}
	f, err := record.File(path, nil, record.Replace)
	must(t, err)
	_, err = f.Write([]byte("a line"))
	must(t, err)
	must(t, f.Close())
	if text, err := os.ReadFile(path); err != nil || string(text) != "a line" {
		t.Errorf("got %s, %v", text, err)
	}
}
