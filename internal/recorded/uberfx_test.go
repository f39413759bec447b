package recorded_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/fx"
	"go.uber.org/fx/fxevent"

	"keenlantern.example/internal/recorded/model"
	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/uberfx"
)

// The parts of the application.
type (
	fxClock  struct{ tally *tally }
	fxWater  interface{ Height() float64 }
	fxGauge  struct{ clock *fxClock }
	fxTides  struct{ inner fxWater }
	fxLedger struct{ water fxWater }
	fxPier   struct{ n int }
	fxDesk   struct {
		ledger *fxLedger
		piers  []*fxPier
	}
	fxDeskIn struct {
		fx.In
		Ledger *fxLedger
		Piers  []*fxPier `group:"piers"`
		Addr   string    `name:"addr"`
		Chart  *model.Chart
		Absent *fxPier `name:"absent" optional:"true"`
		Main   *fxPier `name:"main"`
	}
)

func (g *fxGauge) Height() float64 { return 2 }
func (t *fxTides) Height() float64 { return t.inner.Height() }

// fxOffice is the application, sound.
func fxOffice(c *tally) fx.Option {
	pier := func(n int) func() *fxPier { return func() *fxPier { return built(c, "pier", &fxPier{n}) } }
	return fx.Options(
		fx.Provide(
			func(lc fx.Lifecycle) *fxClock {
				time.Sleep(2 * time.Millisecond)
				k := built(c, "clock", &fxClock{c})
				lc.Append(fx.Hook{
					OnStart: func(context.Context) error { return nil },
					OnStop:  func(context.Context) error { c.add(c.ended, "clock"); return nil },
				})
				return k
			},
			fx.Annotate(func(k *fxClock) *fxGauge { return built(c, "gauge", &fxGauge{k}) }, fx.As(new(fxWater))),
			fx.Annotate(pier(1), fx.ResultTags(`group:"piers"`)),
			fx.Annotate(pier(2), fx.ResultTags(`group:"piers"`)),
			fx.Annotate(pier(3), fx.ResultTags(`name:"main"`)),
			func(in fxDeskIn) *fxDesk { return built(c, "desk", &fxDesk{in.Ledger, in.Piers}) },
		),
		fx.Supply(fx.Annotate("localhost", fx.ResultTags(`name:"addr"`)), &model.Chart{Name: "approach"}),
		fx.Module("ledgers",
			fx.Provide(func(w fxWater) (*fxLedger, error) { return built(c, "ledger", &fxLedger{w}), nil }),
			fx.Decorate(func(w fxWater) fxWater { return built(c, "layer", fxWater(&fxTides{w})) }),
			fx.Invoke(func(*fxLedger) {}),
		),
	)
}

// fxRun starts an application and stops it, with some work between, and returns the application's error.
func fxRun(t *testing.T, work func(), options ...fx.Option) error {
	app := fx.New(options...)
	if app.Err() != nil {
		return app.Err()
	}
	if err := app.Start(context.Background()); err != nil {
		return err
	}
	work()
	return app.Stop(context.Background())
}

// TestUberFx checks that an fx application is recorded by one line, that its own log goes on, and that nothing is found in it.
func TestUberFx(t *testing.T) {
	c := newTally()
	logged := map[string]int{}
	log := fx.WithLogger(func() fxevent.Logger { return fxLog(logged) })
	plain := map[string]int{}
	require.NoError(t, fxRun(t, func() {}, fx.WithLogger(func() fxevent.Logger { return fxLog(plain) }), fxOffice(newTally()), fx.Invoke(func(*fxDesk) {})))
	got := recorded(t, func(rec *record.Recorder) {
		var ledger *fxLedger
		require.NoError(t, fxRun(t, func() {
			served(t, record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
				defer record.Call(r.Context(), ledger, nil)()
			})), 100, "/")
		}, uberfx.Record(rec), log, fxOffice(c), fx.Invoke(func(*fxDesk) {}), uberfx.Seen[*fxLedger](rec), fx.Populate(&ledger)))
	})
	got.sound(t)
	assert.LessOrEqual(t, got.own(t), got.Streams[0].Lasted, "one constructor runs after the other")
	makes := got.count(event.Make, nil)
	assert.Equal(t, map[string]int{
		"recorded_test.fxClock": 1, "recorded_test.fxWater": 2, "recorded_test.fxPier": 3, "recorded_test.fxLedger": 1, "recorded_test.fxDesk": 1, "model.Chart": 1,
		"fx.DotGraph": 1, "fx.Lifecycle": 1,
	}, makes, "and no text")
	assert.Equal(t, map[string]int{"clock": 1, "gauge": 1, "layer": 1, "pier": 3, "ledger": 1, "desk": 1}, c.built)
	assert.Equal(t, map[string]int{"recorded_test.fxClock": 1}, got.count(event.Dispose, func(e *event.Event) bool { return e.State == "done" }))
	assert.Equal(t, map[string]int{"recorded_test.fxLedger": 100}, got.count(event.Use, nil))
	assert.Equal(t, plain["*fxevent.Provided"], logged["*fxevent.Provided"], "its own log")
	assert.Equal(t, plain["*fxevent.Started"], logged["*fxevent.Started"])
	scopes := map[string]int{}
	kept := map[string]string{}
	of := map[event.InstID]string{}
	for _, e := range got.events {
		switch e.Kind {
		case event.Open:
			scopes[e.ScopeKind]++
		case event.Make:
			of[e.Inst] = got.regs[e.Reg].Service
			if e.Has.Has(event.FNS) && of[e.Inst] == "recorded_test.fxClock" {
				assert.Greater(t, e.NS, int64(time.Millisecond))
			}
			for _, w := range e.With {
				assert.False(t, w.Unseen, "%+v", w)
				if !w.Absent {
					kept[of[e.Inst]] += of[w.Inst] + " "
				}
			}
		case event.Register:
			assert.Regexp(t, `^(uberfx_test|record|app)\.go:\d+$`, e.At)
			if e.Module == "ledgers" && e.Has.Has(event.FWraps) {
				assert.Equal(t, "ledgers", e.InModule)
			}
		}
	}
	assert.Equal(t, map[string]int{"request": 100, "invoke": 4, "start hook": 1, "stop hook": 1}, scopes)
	assert.Equal(t, "recorded_test.fxWater ", kept["recorded_test.fxLedger"])
	assert.Equal(t, "recorded_test.fxLedger model.Chart recorded_test.fxPier recorded_test.fxPier recorded_test.fxPier ", kept["recorded_test.fxDesk"])
}

type fxLog map[string]int

// LogEvent is fx's.
func (l fxLog) LogEvent(e fxevent.Event) { l[fmt.Sprintf("%T", e)]++ }

// TestUberFxMistakes holds what each mistake gives. fx makes these impossible: captives, closed scopes, bypassed decorators; and
// leaks invisible, for it shows no value.
func TestUberFxMistakes(t *testing.T) {
	run := func(t *testing.T, options ...fx.Option) *recording {
		return recorded(t, func(rec *record.Recorder) {
			require.Error(t, fxRun(t, func() {}, uberfx.Record(rec, append(options, fx.NopLogger)...)))
		})
	}
	t.Run("a missing one deep below", func(t *testing.T) {
		r := run(t, fx.Provide(func(fxWater) *fxLedger { return nil }, func(*fxLedger) *fxDesk { return nil }), fx.Invoke(func(*fxDesk) {}))
		assert.Equal(t, []found{{"resolve/missing", "recorded_test.fxWater", "recorded_test.fxLedger"}}, r.found())
		assert.Contains(t, r.text, `"path":["recorded_test.fxDesk","recorded_test.fxLedger","recorded_test.fxWater"]`)
	})
	t.Run("a failing constructor", func(t *testing.T) {
		r := run(t, fx.Provide(func() (*fxLedger, error) { return nil, errors.New("wet") }), fx.Invoke(func(*fxLedger) {}))
		assert.Equal(t, []found{{"resolve/failed", "recorded_test.fxLedger", ""}}, r.found())
		assert.NotContains(t, r.text, "wet")
	})
	t.Run("a failing stop hook", func(t *testing.T) {
		r := run(t, fx.Provide(func(lc fx.Lifecycle) *fxLedger {
			lc.Append(fx.StopHook(func() error { return errors.New("wet") }))
			return &fxLedger{}
		}), fx.Invoke(func(*fxLedger) {}))
		assert.Equal(t, []found{{"disposal/failed", "recorded_test.fxLedger", ""}}, r.found())
	})
	t.Run("a stop hook that hangs", func(t *testing.T) {
		for name, hook := range map[string]fx.Option{
			"appended": fx.Provide(func(lc fx.Lifecycle) *fxLedger {
				lc.Append(fx.StopHook(func(context.Context) error { select {} }))
				return &fxLedger{}
			}),
			"annotated": fx.Provide(fx.Annotate(func() *fxLedger { return &fxLedger{} }, fx.OnStop(func(context.Context, *fxLedger) error { select {} }))),
		} {
			t.Run(name, func(t *testing.T) {
				r := recorded(t, func(rec *record.Recorder) {
					app := fx.New(uberfx.Record(rec, hook, fx.Invoke(func(*fxLedger) {}), fx.NopLogger))
					require.NoError(t, app.Start(t.Context()))
					ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
					defer cancel()
					require.Error(t, app.Stop(ctx))
				})
				require.Len(t, r.found(), 1)
				assert.Equal(t, "disposal/unclosed-scope", r.found()[0].rule)
				assert.Contains(t, r.found()[0].subject, "stop hook keenlantern.example/internal/recorded_test.TestUberFxMistakes", "whose hook it is")
			})
		}
	})
	t.Run("an annotated start hook that fails", func(t *testing.T) {
		r := run(t, fx.Provide(fx.Annotate(func() *fxLedger { return &fxLedger{} }, fx.OnStart(func(*fxLedger) error { return errors.New("wet") }))), fx.Invoke(func(*fxLedger) {}))
		assert.Equal(t, []found{{"resolve/failed", "recorded_test.fxLedger", ""}}, r.found())
	})
	t.Run("a cycle", func(t *testing.T) {
		r := recorded(t, func(rec *record.Recorder) {
			require.Error(t, uberfx.New(rec, fx.Provide(func(*fxDesk) *fxLedger { return nil }, func(*fxLedger) *fxDesk { return nil }), fx.NopLogger).Err())
		})
		require.Len(t, r.found(), 1)
		assert.Equal(t, "resolve/cycle", r.found()[0].rule)
	})
	t.Run("an invoked function that fails, once", func(t *testing.T) {
		r := run(t, fx.Provide(func() *fxLedger { return &fxLedger{} }), fx.Invoke(func(*fxLedger) error { return errors.New("wet") }))
		require.Len(t, r.found(), 1)
		assert.Equal(t, "resolve/failed", r.found()[0].rule)
		assert.NotContains(t, r.text, "wet")
	})
	t.Run("populated", func(t *testing.T) {
		var ledger *fxLedger
		r := recorded(t, func(rec *record.Recorder) {
			require.NoError(t, fxRun(t, func() {}, uberfx.Record(rec, fx.Provide(func() *fxLedger { return &fxLedger{} }), fx.Populate(&ledger), fx.NopLogger)))
		})
		assert.Contains(t, r.text, `"name":"fx.Populate"`)
	})
	t.Run("a failing start hook", func(t *testing.T) {
		r := run(t, fx.Provide(func(lc fx.Lifecycle) *fxLedger {
			lc.Append(fx.StartHook(func() error { return errors.New("wet") }))
			return &fxLedger{}
		}), fx.Invoke(func(*fxLedger) {}))
		assert.Equal(t, []found{{"resolve/failed", "recorded_test.fxLedger", ""}}, r.found())
	})
}
