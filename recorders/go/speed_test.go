package record_test

import (
	"io"
	"log/slog"
	"runtime"
	"sync"
	"testing"
	"time"

	"keenlantern.example/record"
)

// BenchmarkRecord measures noting a call against log/slog's JSON handler writing the same fields to io.Discard, one
// goroutine alone and all cores at once; and what is left of it while recording is off.
func BenchmarkRecord(b *testing.B) {
	rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard, Memory: 256 << 20, FlushWait: time.Millisecond})
	if err != nil {
		b.Fatal(err)
	}
	off, err := record.Start(record.Config{App: "harbour", Output: io.Discard, Off: true})
	if err != nil {
		b.Fatal(err)
	}
	reg := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
	log := slog.New(slog.NewJSONHandler(io.Discard, nil))
	scope := rec.Open(record.Scope{Kind: "request"})
	by, inst := rec.Make(record.Making{Reg: reg, Scope: scope}), rec.Make(record.Making{Reg: reg, Scope: scope})
	var none *record.Recorder
	for _, what := range []struct {
		name string
		do   func()
	}{
		{"slog-use", func() {
			log.LogAttrs(b.Context(), slog.LevelInfo, "use", slog.Uint64("inst", uint64(inst)), slog.Uint64("scope", uint64(scope)), slog.Uint64("by", uint64(by)), slog.Int64("ns", 90))
		}},
		{"use", func() { rec.Use(inst, by, scope, 90) }},
		{"slog-give", func() {
			log.LogAttrs(b.Context(), slog.LevelInfo, "give", slog.Uint64("inst", uint64(inst)), slog.Uint64("scope", uint64(scope)), slog.String("entry", "GET /tides"), slog.String("how", "locator"))
		}},
		{"give", func() { rec.Give(record.Giving{Inst: inst, Scope: scope, Entry: "GET /tides", How: "locator"}) }},
		{"off", func() { off.Use(inst, by, scope, 90) }},
		{"nil", func() { none.Use(inst, by, scope, 90) }},
	} {
		b.Run(what.name, func(b *testing.B) {
			b.ReportAllocs()
			n := 0
			for b.Loop() {
				what.do()
				// No faster than it is written down, or what is measured is how it drops.
				if n++; n%burst == 0 {
					b.StopTimer()
					drawn(rec)
					b.StartTimer()
				}
			}
		})
		b.Run(what.name+"-all-cores", func(b *testing.B) {
			b.ReportAllocs()
			for n := 0; n < b.N; n += burst {
				var wg sync.WaitGroup
				for range runtime.GOMAXPROCS(0) {
					wg.Add(1)
					go func() {
						defer wg.Done()
						for range min(burst, b.N-n) / runtime.GOMAXPROCS(0) {
							what.do()
						}
					}()
				}
				wg.Wait()
				b.StopTimer()
				drawn(rec)
				b.StartTimer()
			}
		})
	}
	if lost := rec.Totals(); lost.Lost > 0 {
		b.Errorf("%d of %d were dropped", lost.Lost, lost.Lost+lost.Events)
	}
	b.Run("use-until-written", func(b *testing.B) {
		b.ReportAllocs()
		n := 0
		for b.Loop() {
			rec.Use(inst, by, scope, 90)
			if n++; n%burst == 0 {
				drawn(rec)
			}
		}
	})
}

const burst = 50_000

// drawn waits until all that was noted has been written down.
func drawn(rec *record.Recorder) {
	for before := int64(-1); ; time.Sleep(time.Millisecond) {
		now := rec.Totals()
		if now.Events == before && rec.Noted() == 0 {
			return
		}
		before = now.Events
	}
}
