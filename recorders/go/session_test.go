package record_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"keenlantern.example/record"
)

// streams splits what was written into its streams, each a list of events.
func streams(t *testing.T, text string) (list [][]map[string]any) {
	t.Helper()
	for _, e := range events(t, text) {
		if e["ev"] == "hello" {
			list = append(list, nil)
		}
		list[len(list)-1] = append(list[len(list)-1], e)
	}
	return list
}

func kinds(events []map[string]any) string {
	list := []string{}
	for _, e := range events {
		list = append(list, e["ev"].(string))
	}
	return strings.Join(list, " ")
}

// TestSwitching checks that a recording switched on in mid-life begins with what is registered and alive, that what was
// under way is left out as a whole, and that each time is a separate stream that ends.
func TestSwitching(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out, Off: true})
	must(t, err)
	root := rec.Container("root", 0, 0)
	clock := rec.Register(record.Registration{Service: "HarbourClock", Lifetime: "singleton", Container: root})
	tides := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped", Disposable: true})
	work := func(scope record.ScopeID, with record.InstID) {
		i := rec.Make(record.Making{Reg: tides, Scope: scope})
		rec.Give(record.Giving{Inst: i, Scope: scope, Entry: "GET /tides"})
		rec.Use(with, i, scope, 5)
		rec.Dispose(i, scope, "container", record.Done, 0, nil)
		rec.CloseScope(scope)
	}
	c := rec.Make(record.Making{Reg: clock})
	gone := rec.Make(record.Making{Reg: clock})
	rec.Dispose(gone, 0, "container", record.Done, 0, nil)
	early := rec.Open(record.Scope{Kind: "request", Name: "early"})
	if early != record.Unrecorded || rec.Stream() != "" {
		t.Errorf("recorded while off: %d", early)
	}
	work(early, c)
	open := rec.Open(record.Scope{Kind: "request", Name: "open all the while"})

	rec.Set(record.Setting{On: true})
	first := rec.Stream()
	s := rec.Open(record.Scope{Kind: "request", Name: "GET /tides"})
	work(s, c)
	work(open, c)
	late := rec.Make(record.Making{Reg: clock, Scope: open}) // a singleton built in work that is left out
	left := rec.Open(record.Scope{Kind: "request", Name: "cut off"})
	rec.Set(record.Setting{})
	work(left, c)

	rec.Set(record.Setting{On: true})
	if rec.Stream() == first || rec.Stream() == "" {
		t.Error("not its own stream")
	}
	work(left, c)
	rec.Use(late, 0, 0, 1)
	work(rec.Open(record.Scope{Kind: "request"}), late)
	must(t, closing(t, rec))

	list := streams(t, out.String())
	if len(list) != 2 {
		t.Fatalf("%d streams", len(list))
	}
	if got, want := kinds(list[0]), "hello container register register make open make give use dispose close make open bye"; got != want {
		t.Errorf("the first:  %s\nwanted: %s", got, want)
	}
	if got, want := kinds(list[1]), "hello container register register make make use open make give use dispose close bye"; got != want {
		t.Errorf("the second: %s\nwanted: %s", got, want)
	}
	if m := list[0][4]; m["inst"] != float64(c) || m["t"].(float64) >= 0 || m["scope"] != 0.0 {
		t.Errorf("the clock was built before: %v", m)
	}
	if m := list[0][11]; m["scope"] != 0.0 {
		t.Errorf("what outlives scopes stands at the root where its own is not known: %v", m)
	}
}

// TestSampling checks that a share of the scopes is recorded, whole, with its weight, and what outlives them always.
func TestSampling(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out, Setting: record.Setting{Share: 0.1}})
	must(t, err)
	tides := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
	clock := rec.Register(record.Registration{Service: "HarbourClock", Lifetime: "singleton"})
	const many = 5000
	for n := range many {
		s := rec.Open(record.Scope{Kind: "job"})
		inner := rec.Open(record.Scope{In: s, Kind: "step"})
		rec.Use(rec.Make(record.Making{Reg: tides, Scope: inner}), 0, inner, 1)
		if n%1000 == 0 {
			rec.Make(record.Making{Reg: clock, Scope: inner})
		}
		rec.CloseScope(inner)
		rec.CloseScope(s)
	}
	must(t, closing(t, rec))
	n := map[string]int{}
	for _, e := range events(t, out.String()) {
		n[e["ev"].(string)]++
		if e["ev"] == "open" && e["weight"] != 10.0 {
			t.Fatalf("got %v", e)
		}
	}
	jobs := n["open"] / 2
	if jobs < many/20 || jobs > many/5 {
		t.Errorf("%d of %d scopes for a tenth", jobs, many)
	}
	if n["open"] != n["close"] || n["use"] != jobs || n["make"] != jobs+many/1000 || n["gap"] != 0 {
		t.Errorf("scopes in pieces: %v", n)
	}
}

// TestLimits checks that a recording limited in time or size ends by itself, with a bye.
func TestLimits(t *testing.T) {
	for _, to := range []record.Setting{{For: 30 * time.Millisecond}, {Bytes: 20_000}} {
		var out bytes.Buffer
		rec, err := record.Start(record.Config{App: "harbour", Output: &out, FlushWait: time.Millisecond, Setting: to})
		must(t, err)
		deadline := time.Now().Add(10 * time.Second)
		for rec.State().On && time.Now().Before(deadline) {
			rec.CloseScope(rec.Open(record.Scope{Kind: "request"}))
			time.Sleep(10 * time.Microsecond)
		}
		if rec.State().On {
			t.Errorf("%+v: it went on", to)
		}
		must(t, closing(t, rec))
		if list := streams(t, out.String()); len(list) != 1 || !strings.HasSuffix(kinds(list[0]), "bye") {
			t.Errorf("%+v: got %d streams", to, len(list))
		}
	}
}

// TestWholeScopes checks that when memory runs short, scopes are left out as a whole: of those recorded from then on
// nothing is missing, and all that is missing is counted.
func TestWholeScopes(t *testing.T) {
	block := make(chan struct{})
	var text bytes.Buffer
	var mu sync.Mutex
	rec, err := record.Start(record.Config{
		App: "harbour", Memory: 1 << 20, BatchSize: 16 << 10, FlushWait: time.Millisecond,
		Output: writer(func(p []byte) (int, error) { <-block; mu.Lock(); defer mu.Unlock(); return text.Write(p) }),
	})
	must(t, err)
	reg := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
	const many = 20_000
	for n := range many {
		s := rec.Open(record.Scope{Kind: "request", Name: "GET /tides/{gauge}"})
		i := rec.Make(record.Making{Reg: reg, Scope: s})
		rec.Use(i, 0, s, 1)
		rec.Dispose(i, s, "container", record.Done, 0, nil)
		rec.CloseScope(s)
		if n%100 == 0 {
			time.Sleep(time.Millisecond) // as an application would leave room for others
		}
	}
	during := rec.Totals()
	close(block)
	must(t, closing(t, rec))
	after := rec.Totals()
	if during.Lost == 0 {
		t.Fatal("nothing was dropped")
	}
	counted, whole, broken := int64(0), 0, 0
	per := map[any]int{}
	for _, e := range events(t, text.String()) {
		if e["ev"] == "gap" {
			counted += int64(e["lost"].(float64))
		} else if s := e["scope"]; s != nil {
			per[s]++
		}
	}
	for _, n := range per {
		if n == 5 {
			whole++
		} else {
			broken++
		}
	}
	if counted != after.Lost || after.Events == 0 {
		t.Errorf("%d were lost, %d were reported", after.Lost, counted)
	}
	if broken*20 > whole {
		t.Errorf("%d scopes are whole and %d in pieces", whole, broken)
	}
}

type writer func([]byte) (int, error)

func (w writer) Write(p []byte) (int, error) { return w(p) }

// TestOrders checks that a recorder applies the answers of its long poll, and reports its state.
func TestOrders(t *testing.T) {
	var mu sync.Mutex
	order := map[string]any{"version": 0}
	changed := make(chan struct{}, 1)
	var asked []string
	var text bytes.Buffer
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "/batches/") {
			body, _ := io.ReadAll(r.Body)
			mu.Lock()
			text.Write(body)
			mu.Unlock()
			parts := strings.Split(r.URL.Path, "/")
			n, _ := strconv.Atoi(parts[6])
			acknowledge(w, parts[4], n)
			return
		}
		var doing struct{ Knows any }
		_ = json.NewDecoder(r.Body).Decode(&doing)
		mu.Lock()
		asked = append(asked, r.Method+" "+r.URL.Path)
		wait := fmt.Sprint(order["version"]) == fmt.Sprint(doing.Knows)
		mu.Unlock()
		if wait {
			select {
			case <-changed:
			case <-r.Context().Done():
				return
			}
		}
		mu.Lock()
		defer mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(order)
	}))
	defer s.Close()
	rec, err := record.Start(record.Config{App: "harbour office", Service: s.URL, Off: true, FlushWait: time.Millisecond})
	must(t, err)
	tell := func(o map[string]any) {
		mu.Lock()
		order = o
		mu.Unlock()
		changed <- struct{}{}
	}
	until := func(what string, is func() bool) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); !is(); time.Sleep(time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatal(what)
			}
		}
	}
	tell(map[string]any{"version": 1, "on": true, "share": 0.5})
	until("it was not switched on", func() bool { return rec.State().On && rec.State().Share == 0.5 })
	tell(map[string]any{"version": 2, "on": false})
	until("it was not switched off", func() bool { return !rec.State().On })
	must(t, closing(t, rec))
	mu.Lock()
	defer mu.Unlock()
	if got := kinds(events(t, text.String())); got != "hello bye" {
		t.Errorf("got %s", got)
	}
	if !strings.HasPrefix(asked[0], "PUT /api/v1/applications/harbour office/recorders/") {
		t.Errorf("asked %s", asked[0])
	}
}
