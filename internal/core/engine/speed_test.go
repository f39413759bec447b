package engine_test

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/order"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/load"
	"keenlantern.example/record/event"
)

const setUp = hello +
	`{"ev":"register","t":1,"reg":1,"service":"HarbourClock","lifetime":"singleton"}
{"ev":"register","t":1,"reg":2,"service":"TideSource","lifetime":"scoped","disposable":true}
{"ev":"register","t":1,"reg":3,"service":"BerthPlanner","lifetime":"transient"}
{"ev":"make","t":2,"inst":1,"reg":1,"scope":0}
`

// requests gives the events of n requests to put, twelve each, as a busy office has them: a scoped and a transient
// instance, seven hand-outs and uses, a disposal that every tenth forgets. As many scopes are open concurrently as given. The
// event is overwritten by the next.
func requests(n, atOnce int, put func(*event.Event)) {
	var e event.Event
	with := make([]event.With, 2)
	say := func(kind event.Kind, t int64, has event.Fields) *event.Event {
		e.Reset()
		has.Set(event.FT)
		e.Kind, e.T, e.Has, e.Count, e.Weight = kind, t, has, 1, 1
		return &e
	}
	for k := range n + atOnce - 1 {
		t := int64(100*k + 10)
		s, i := event.ScopeID(k+1), event.InstID(2*k+2)
		if k < n {
			say(event.Open, t, event.Of(event.FScope, event.FKind, event.FName))
			e.Scope, e.ScopeKind, e.Name = s, "request", "GET /tides"
			put(&e)
			say(event.Make, t+10, event.Of(event.FInst, event.FReg, event.FScope, event.FNS, event.FWith))
			with[0] = event.With{Inst: 1}
			e.Inst, e.Reg, e.Scope, e.NS, e.With = i, 2, s, 5, with[:1]
			put(&e)
			say(event.Make, t+12, event.Of(event.FInst, event.FReg, event.FScope, event.FNS, event.FWith))
			with[0], with[1] = event.With{Inst: i}, event.With{Slot: 1, Inst: 1}
			e.Inst, e.Reg, e.Scope, e.NS, e.With = i+1, 3, s, 12, with
			put(&e)
			say(event.Give, t+13, event.Of(event.FInst, event.FScope, event.FEntry))
			e.Inst, e.Scope, e.Entry = i+1, s, "GET /tides"
			put(&e)
			for u := range int64(6) {
				say(event.Use, t+20+u, event.Of(event.FInst, event.FScope, event.FBy, event.FNS))
				e.Inst, e.User, e.Scope, e.NS = i, i+1, s, 3
				if u%2 == 1 {
					e.Inst, e.User = 1, i
				}
				put(&e)
			}
		}
		// The one that has been open longest ends.
		if k -= atOnce - 1; k < 0 {
			continue
		}
		if k%10 != 0 {
			say(event.Dispose, t+40, event.Of(event.FInst, event.FScope))
			e.Inst, e.Scope = event.InstID(2*k+2), event.ScopeID(k+1)
			put(&e)
		}
		say(event.Close, t+41, event.Of(event.FScope))
		e.Scope = event.ScopeID(k + 1)
		put(&e)
	}
	say(event.Bye, int64(100*(n+atOnce)+100), event.Fields{})
	put(&e)
}

// TestMemoryIsOfWhatIsAlive checks that ten million events leave hardly more behind than one million, with a thousand
// scopes open all the time.
func TestMemoryIsOfWhatIsAlive(t *testing.T) {
	if underRace {
		t.Skip("what is alive is measured without the race detector; 'make test' does both")
	}
	left := func(events int) int64 {
		n := events / 12
		s := begun(t)
		requests(n, 1000, func(e *event.Event) { s.Put(reader.Line{Event: e}) })
		var m runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&m)
		result := s.Result()
		require.Equal(t, "disposal/leaked", result.Findings[0].Rule)
		require.Equal(t, int64((n+9)/10), result.Findings[0].Counts["instances"])
		return int64(m.HeapAlloc)
	}
	few := left(1_000_000)
	many := left(10_000_000)
	assert.Less(t, 10*many, 13*few, "10 million events against 1 million")
}

// begun returns a stream that has read the set-up.
func begun(t testing.TB) *engine.Analysis {
	t.Helper()
	s := engine.NewStream(rules.Default(), nil)
	r := reader.New(strings.NewReader(fmt.Sprintf(setUp, "h-1")), reader.Options{})
	for {
		line, err := r.Next()
		if err != nil {
			return s
		}
		s.Put(line)
		require.Empty(t, line.Refused)
	}
}

// TestNothingLastingAllocatesNothing checks that an event which leaves nothing behind costs no memory, from its text on.
func TestNothingLastingAllocatesNothing(t *testing.T) {
	s := begun(t)
	var p reader.Parser
	put := func(text string) {
		line := p.Parse([]byte(text))
		require.NotNil(t, line.Event, line.Refused)
		s.Put(line)
	}
	put(`{"ev":"open","t":10,"scope":1,"kind":"request","name":"GET /tides"}`)
	put(`{"ev":"make","t":20,"inst":2,"reg":2,"scope":1,"with":[1]}`)
	put(`{"ev":"make","t":21,"inst":3,"reg":3,"scope":1,"with":[2,1]}`)
	for _, text := range []string{
		`{"ev":"use","t":30,"inst":1,"scope":1,"by":2,"ns":3}`,
		`{"ev":"use","t":31,"inst":2,"scope":1,"by":3,"ns":3,"thread":"g7"}`,
		`{"ev":"use", "t":31, "inst":2, "scope":1}`,
		`{"ev":"give","t":32,"inst":2,"scope":1,"entry":"GET /tides"}`,
		`{"ev":"give","t":33,"inst":1,"to":2,"scope":1,"how":"lookup"}`,
	} {
		put(text) // the first may be new
		line := []byte(text)
		assert.Zero(t, testing.AllocsPerRun(1000, func() { s.Put(p.Parse(line)) }), text)
	}
	require.Zero(t, s.Health().Refused)
}

// BenchmarkAnalyse measures reading alone, reading with the ledger, and everything that 'check' does, against encoding/json,
// for each shape. The wide one comes as 64 streams whose batches take turns, as a service is sent them.
func BenchmarkAnalyse(b *testing.B) {
	for _, shape := range load.Shapes {
		b.Run(shape.Name, func(b *testing.B) {
			streams, events := 1, 480_000
			if shape.Name == "wide" { // each stream begins with two thousand registrations
				streams, events = 64, 64*30_000
			}
			timeAnalysis(b, tracesOf(shape, events, streams, 1))
		})
	}
}

// BenchmarkGrowth measures what an event costs as one thing grows and all else stays: that it is about the same is what it is for.
func BenchmarkGrowth(b *testing.B) {
	for _, g := range growths {
		b.Run(g.what, func(b *testing.B) {
			texts, best := make([][]byte, len(g.sizes)), make([]float64, len(g.sizes))
			for n, size := range g.sizes {
				texts[n] = g.trace(size)
			}
			for b.Loop() { // alternately, so that a busy machine is as busy for both
				for n, text := range texts {
					from := time.Now()
					if _, err := engine.Analyse(b.Context(), bytes.NewReader(text), reader.Options{}, rules.Default()); err != nil {
						b.Fatal(err)
					}
					each := float64(time.Since(from).Nanoseconds()) / float64(bytes.Count(text, []byte{'\n'}))
					if best[n] == 0 || each < best[n] {
						best[n] = each
					}
				}
			}
			for n, size := range g.sizes {
				b.ReportMetric(best[n], fmt.Sprintf("ns/event-%d", size))
			}
			b.ReportMetric(best[1]/best[0], "times-the-least")
		})
	}
}

const growthEvents = 1_000_000

var growths = []struct {
	what  string
	sizes [2]int
	trace func(size int) []byte
}{
	{"registrations", [2]int{10, 10_000}, func(n int) []byte { return load.Steady(load.Steadily{Registrations: n}, growthEvents) }},
	{"open-scopes", [2]int{1, 10_000}, func(n int) []byte { return load.Steady(load.Steadily{Open: n}, growthEvents) }},
	{"chain", [2]int{2, 200}, func(n int) []byte { return load.Steady(load.Steadily{Chain: n}, growthEvents) }},
	{"scope-names", [2]int{1, 100_000}, func(n int) []byte { return load.Steady(load.Steadily{Names: n}, growthEvents) }},
}

// tracesOf returns the batches of so many streams of a shape.
func tracesOf(shape load.Shape, events, streams, open int) (batches [][][]byte) {
	for n := range streams {
		w := shape.New(fmt.Sprintf("%s-%d", shape.Name, n), open)
		var list [][]byte
		for left := events / streams / shape.Each; left > 0; left -= 50 {
			list = append(list, bytes.Clone(w.Requests(min(left, 50))))
		}
		batches = append(batches, append(list, bytes.Clone(w.End())))
	}
	return batches
}

func timeAnalysis(b *testing.B, batches [][][]byte) {
	events, size := 0, 0
	for _, stream := range batches {
		for _, batch := range stream {
			events += bytes.Count(batch, []byte{'\n'})
			size += len(batch)
		}
	}
	// turns calls put for each batch, one of each stream after the other.
	turns := func(put func(stream int, batch []byte)) {
		for n := range batches[0] {
			for stream := range batches {
				put(stream, batches[stream][n])
			}
		}
	}
	run := func(name string, all func()) {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			b.SetBytes(int64(size))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			for b.Loop() {
				all()
			}
			runtime.ReadMemStats(&after)
			b.ReportMetric(float64(events)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mevents/s")
			b.ReportMetric(float64(after.Mallocs-before.Mallocs)/float64(events)/float64(b.N), "allocs/event")
		})
	}
	run("encoding-json", func() { turns(func(_ int, batch []byte) { unmarshalLines(b, batch) }) })
	in := reader.New(nil, reader.Options{})
	read := func(batch []byte, put func(reader.Line)) {
		in.Reset(bytes.NewReader(batch), 1)
		for {
			line, err := in.Next()
			if err != nil {
				return
			}
			put(line)
		}
	}
	run("read", func() { turns(func(_ int, batch []byte) { read(batch, func(reader.Line) {}) }) })
	run("read-ledger", func() {
		type one struct {
			order *order.Order
			world *ledger.World
		}
		m := meter.New(nil)
		streams := make([]one, len(batches))
		for n := range streams {
			streams[n] = one{order.New(), ledger.New(m, func(*ledger.Change) {})}
		}
		turns(func(stream int, batch []byte) {
			s := streams[stream]
			apply := func(e *event.Event) {
				if err := s.world.Apply(e); err != nil {
					b.Fatal(err)
				}
			}
			read(batch, func(line reader.Line) {
				m.Start(1 << 30)
				s.order.Put(line.Event, apply)
			})
		})
	})
	run("all", func() {
		streams := make([]*engine.Analysis, len(batches))
		for n := range streams {
			streams[n] = engine.NewBare(rules.Default())
			streams[n].Remember(ledger.Remembered / len(batches))
		}
		turns(func(stream int, batch []byte) {
			in.Reset(bytes.NewReader(batch), 1)
			_ = engine.PutAll(in, streams[stream])
		})
		for _, s := range streams {
			s.Finish()
			if s.Result().Streams[0].Broken != nil {
				b.Fatal("it broke")
			}
		}
	})
	if len(batches) > 1 {
		return
	}
	text := bytes.Join(batches[0], nil)
	run("all-on-two-cores", func() {
		if _, err := engine.Analyse(b.Context(), bytes.NewReader(text), reader.Options{}, rules.Default()); err != nil {
			b.Fatal(err)
		}
	})
}
