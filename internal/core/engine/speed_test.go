package engine_test

import (
	"bytes"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/order"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

const setUp = hello +
	`{"ev":"register","t":1,"reg":1,"service":"HarbourClock","lifetime":"singleton"}
{"ev":"register","t":1,"reg":2,"service":"TideSource","lifetime":"scoped","disposable":true}
{"ev":"register","t":1,"reg":3,"service":"BerthPlanner","lifetime":"transient"}
{"ev":"make","t":2,"inst":1,"reg":1,"scope":0}
`

// requests gives the events of n requests to put, twelve each, as a busy office has them: a scoped and a transient
// instance, seven hand-outs and uses, a disposal that every tenth forgets. As many scopes are open at once as said. The
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

// TestMemoryIsOfWhatIsAlive holds that ten million events leave hardly more behind than one million, with a thousand
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

// TestNothingLastingAllocatesNothing holds that an event which leaves nothing behind costs no memory, from its text on.
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

// BenchmarkAnalyse measures reading alone, reading with the ledger, and with all rules, against encoding/json.
func BenchmarkAnalyse(b *testing.B) {
	text := fmt.Appendf(nil, setUp, "h-1")
	requests(20_000, 1, func(e *event.Event) { text = event.AppendLine(text, e) })
	events := float64(bytes.Count(text, []byte{'\n'}))
	run := func(name string, all func()) {
		b.Run(name, func(b *testing.B) {
			b.ReportAllocs()
			b.SetBytes(int64(len(text)))
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			for b.Loop() {
				all()
			}
			runtime.ReadMemStats(&after)
			b.ReportMetric(events*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mevents/s")
			b.ReportMetric(float64(after.Mallocs-before.Mallocs)/events/float64(b.N), "allocs/event")
		})
	}
	read := func(put func(reader.Line)) {
		r := reader.New(bytes.NewReader(text), reader.Options{})
		for {
			line, err := r.Next()
			if err != nil {
				return
			}
			put(line)
		}
	}
	run("encoding-json", func() { unmarshalLines(b, text) })
	run("read", func() { read(func(reader.Line) {}) })
	run("read-ledger", func() {
		o, w := order.New(), ledger.New(meter.New(nil), func(*ledger.Change) {})
		apply := func(e *event.Event) {
			if err := w.Apply(e); err != nil {
				b.Fatal(err)
			}
		}
		read(func(line reader.Line) { o.Put(line.Event, apply) })
	})
	run("read-ledger-rules", func() {
		if _, err := engine.Analyse(b.Context(), bytes.NewReader(text), reader.Options{}, rules.Default()); err != nil {
			b.Fatal(err)
		}
	})
}
