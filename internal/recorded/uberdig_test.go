package recorded_test

import (
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/dig"

	other "keenlantern.example/internal/recorded/berths/model"
	"keenlantern.example/internal/recorded/model"
	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/uberdig"
)

// The parts of the application.
type (
	digClock  struct{ tally *tally }
	digWater  interface{ Height() float64 }
	digBuoy   interface{ Lit() bool }
	digGauge  struct{ clock *digClock }
	digTides  struct{ inner digWater }
	digPier   struct{ n int }
	digLedger struct {
		tally *tally
		water digWater
	}
	digDesk  struct{ ledger *digLedger }
	digInner struct {
		dig.In
		Chart *model.Chart
		Plan  *other.Chart
		Addr  string `name:"addr"`
	}
	digIn struct {
		dig.In
		Inner  digInner
		Ledger *digLedger
		Piers  []*digPier `group:"piers"`
		Main   *digPier   `name:"main"`
		Absent io.Reader  `optional:"true"`
	}
	digOutInner struct {
		dig.Out
		Plan *other.Chart
	}
	digOut struct {
		dig.Out
		Inner digOutInner
		Chart *model.Chart
		Main  *digPier `name:"main"`
		Pier  *digPier `group:"piers"`
		Addr  string   `name:"addr"`
	}
)

func (g *digGauge) Height() float64 { return 2 }
func (g *digGauge) Lit() bool       { return true }
func (t *digTides) Height() float64 { return t.inner.Height() }
func (l *digLedger) Close() error   { l.tally.add(l.tally.ended, "ledger"); return nil }

// digger is what a dig container and a recorded one have in common.
type digger interface {
	Provide(any, ...dig.ProvideOption) error
	Decorate(any, ...dig.DecorateOption) error
	Invoke(any, ...dig.InvokeOption) error
}

// digOffice provides what there is one of, in all the ways that the library has.
func digOffice(c digger, t *tally) error {
	return errors.Join(
		c.Provide(func() *digClock { time.Sleep(2 * time.Millisecond); return built(t, "clock", &digClock{t}) }),
		c.Provide(func(k *digClock) (*digGauge, error) { return built(t, "gauge", &digGauge{k}), nil }, dig.As(new(digWater), new(digBuoy))),
		c.Provide(func() digOut {
			built(t, "plan", 0)
			built(t, "chart", 0)
			return digOut{Inner: digOutInner{Plan: &other.Chart{}}, Chart: &model.Chart{}, Main: built(t, "pier", &digPier{1}), Pier: built(t, "pier", &digPier{2}), Addr: "x"}
		}),
		c.Provide(func() []*digPier { return []*digPier{built(t, "pier", &digPier{3}), built(t, "pier", &digPier{4})} }, dig.Group("piers,flatten")),
		c.Decorate(func(w digWater) digWater { return built(t, "layer", digWater(&digTides{w})) }),
	)
}

func digRequest(c digger, t *tally) error {
	return errors.Join(
		c.Provide(func(w digWater) *digLedger { return built(t, "ledger", &digLedger{t, w}) }),
		c.Provide(func(in digIn, more ...io.Writer) *digDesk { return built(t, "desk", &digDesk{in.Ledger}) }),
	)
}

// TestUberDig checks that nothing is found in a sound application, and that the recording equals its own counters.
func TestUberDig(t *testing.T) {
	c := newTally()
	got := recorded(t, func(rec *record.Recorder) {
		root := uberdig.Record(rec, dig.New(), uberdig.ClosesTold())
		require.NotNil(t, root.Dig())
		require.NoError(t, digOffice(root, c))
		var one sync.Mutex // dig is not for several goroutines at once
		h := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
			one.Lock()
			defer one.Unlock()
			scope := root.Scope("request")
			defer scope.Close()
			assert.NoError(t, digRequest(scope, c))
			assert.NoError(t, scope.InvokeFor("GET /berths", func(d *digDesk, b digBuoy, k *digClock) {
				defer rec.Closed(d.ledger)
				_ = d.ledger.Close()
			}))
		})
		served(t, record.Handler(rec, h), 100, "/berths")
		root.Close()
	})
	got.sound(t)
	assert.Positive(t, got.nested(t, 0))
	assert.LessOrEqual(t, got.own(t), got.Streams[0].Lasted, "one constructor runs after the other")
	makes := got.count(event.Make, nil)
	assert.Equal(t, map[string]int{
		"recorded_test.digClock": 1, "recorded_test.digWater": 2, "model.Chart": 1, "recorded/model.Chart": 1, "recorded_test.digPier": 4,
		"recorded_test.digLedger": 100, "recorded_test.digDesk": 100,
	}, makes)
	assert.Equal(t, map[string]int{"clock": 1, "gauge": 1, "layer": 1, "chart": 1, "plan": 1, "pier": 4, "ledger": 100, "desk": 100}, c.built)
	assert.Equal(t, map[string]int{"recorded_test.digLedger": c.ended["ledger"]}, got.count(event.Dispose, nil))
	assert.EqualValues(t, 100, got.Streams[0].Figures.Scopes, "one scope for each request")
	timed := 0
	for _, e := range got.events {
		for _, w := range e.With {
			assert.True(t, w.Inst > 0 || w.Absent, "%+v", w)
		}
		if e.Kind == event.Make && e.Has.Has(event.FNS) && strings.Contains(got.regs[e.Reg].Service, "model.Chart") {
			timed++
		}
		if e.Kind == event.Make && got.regs[e.Reg].Service == "recorded_test.digWater" && e.Impl == "recorded_test.digGauge" {
			assert.Greater(t, e.NS, int64(time.Millisecond), "with the clock that was built for it")
			assert.Equal(t, []event.Also{{Service: "recorded_test.digBuoy"}}, got.regs[e.Reg].Also)
		}
		if e.Kind == event.Register {
			assert.Regexp(t, `^uberdig_test\.go:\d+$`, e.At)
		}
	}
	assert.LessOrEqual(t, timed, 1, "several results are timed once")
}

// TestUberDigSame checks that an application does under the adapter what it does without, errors and their places included.
func TestUberDigSame(t *testing.T) {
	behave := func(c digger) (said []string) {
		note := func(err error) {
			said = append(said, fmt.Sprint(err), fmt.Sprintf("%+v", err), fmt.Sprint(dig.RootCause(err)), fmt.Sprint(dig.IsCycleDetected(err)))
			var p dig.PanicError
			said = append(said, fmt.Sprint(errors.As(err, &p)))
		}
		note(c.Provide(func() (*digClock, error) { return nil, errors.New("wet") }))
		note(c.Provide(func(*digClock) *digGauge { return nil }))
		note(c.Provide(func(io.Reader) *digLedger { return nil }))
		note(c.Provide(func() *digPier { panic("rotten") }))
		note(c.Provide(func() *digClock { return nil }))
		note(c.Provide("nothing"))
		note(c.Provide(func() *model.Chart { return &model.Chart{} }))
		note(c.Provide(func() *other.Chart { return &other.Chart{} }))
		note(c.Decorate(func(ch *model.Chart, _ io.Reader) *model.Chart { return ch }))
		note(c.Provide(func() *http.ServeMux { return http.NewServeMux() }))
		note(c.Decorate(func(m *http.ServeMux) (*http.ServeMux, error) { return nil, errors.New("torn") }))
		note(c.Provide(func(*digDesk) *digTides { return nil }))
		note(c.Provide(func(*digTides) *digDesk { return nil }))
		note(c.Invoke(func(*digGauge) {}))
		note(c.Invoke(func(*digLedger) {}))
		note(c.Invoke(func(*digPier) {}))
		note(c.Invoke(func(*model.Chart) {}))
		note(c.Invoke(func(*other.Chart) {}))
		note(c.Invoke(func(*http.ServeMux) {}))
		note(c.Invoke(func() error { return errors.New("own") }))
		note(c.Invoke(func() { panic("own") }))
		note(c.Invoke(func(io.Writer) {}))
		note(c.Invoke(nil))
		return said
	}
	plain := behave(dig.New(dig.RecoverFromPanics()))
	var under []string
	recorded(t, func(rec *record.Recorder) { under = behave(uberdig.New(rec, dig.RecoverFromPanics())) })
	assert.Equal(t, plain, under)
}

// TestUberDigMistakes holds what each mistake gives. dig makes these impossible: a bypassed decorator, asking a closed scope.
func TestUberDigMistakes(t *testing.T) {
	c := newTally()
	run := func(t *testing.T, opts []uberdig.Option, office, request func(digger) error, invoke any, after func(*record.Recorder)) *recording {
		return recorded(t, func(rec *record.Recorder) {
			root := uberdig.Record(rec, dig.New(), opts...)
			require.NoError(t, office(root))
			for range 50 {
				ctx, scope := root.Open(t.Context(), "request", "GET /berths")
				require.NoError(t, request(scope))
				if err := scope.InvokeFor("GET /berths", invoke); err != nil {
					assert.NotContains(t, err.Error(), "makeFuncStub")
				}
				assert.NotZero(t, record.ScopeOf(ctx))
				scope.Close()
			}
			if after != nil {
				after(rec)
			}
			root.Close()
		})
	}
	office := func(d digger) error { return digOffice(d, c) }
	request := func(d digger) error { return digRequest(d, c) }
	t.Run("a captive", func(t *testing.T) {
		// What a scope exports is the container's, and keeps what the scope has of its own.
		first := true
		r := run(t, nil, office, func(d digger) error {
			if !first {
				return request(d)
			}
			first = false
			return errors.Join(request(d), d.Provide(func(l *digLedger) *digTides { return &digTides{l.water} }, dig.Export(true)))
		}, func(*digTides) {}, nil)
		assert.Equal(t, []found{{"captive/scoped", "recorded_test.digLedger", "recorded_test.digTides"}}, r.found())
	})
	t.Run("several provided in a loop in each scope", func(t *testing.T) {
		type in struct {
			dig.In
			Piers []*digPier `group:"piers"`
		}
		r := run(t, nil, func(digger) error { return nil }, func(d digger) (err error) {
			for n := range 3 {
				err = errors.Join(err, d.Provide(func() *digPier { return &digPier{n} }, dig.Group("piers")))
			}
			return err
		}, func(in) {}, nil)
		assert.Empty(t, r.Findings)
		assert.Len(t, r.regs, 3)
	})
	t.Run("a leak", func(t *testing.T) {
		use := func(*digDesk) {}
		assert.Empty(t, run(t, nil, office, request, use, nil).found(), "whether it is closed is unknown")
		assert.Equal(t, []found{{"disposal/leaked", "recorded_test.digLedger", ""}}, run(t, []uberdig.Option{uberdig.ClosesTold()}, office, request, use, nil).found())
	})
	t.Run("a missing one deep below", func(t *testing.T) {
		r := run(t, nil, func(digger) error { return nil }, func(d digger) error {
			return d.Provide(func(digWater) *digDesk { return nil })
		}, func(*digDesk) {}, nil)
		assert.Equal(t, []found{{"resolve/missing", "recorded_test.digWater", "recorded_test.digDesk"}}, r.found())
		assert.Equal(t, 50, r.count(event.Fail, nil)["recorded_test.digWater"])
	})
	t.Run("a wrong key", func(t *testing.T) {
		type in struct {
			dig.In
			Main *digPier `name:"mein"`
		}
		r := run(t, nil, office, func(digger) error { return nil }, func(in) {}, nil)
		assert.Equal(t, []found{{"keys/missing", "recorded_test.digPier [mein]", "GET /berths"}}, r.found())
	})
	t.Run("a failing constructor", func(t *testing.T) {
		r := run(t, nil, func(d digger) error { return d.Provide(func() (*digLedger, error) { return nil, errors.New("wet") }) }, func(d digger) error {
			return d.Provide(func(*digLedger) *digDesk { return nil })
		}, func(*digDesk) {}, nil)
		assert.Equal(t, map[string]int{"recorded_test.digLedger": 50}, r.count(event.Fail, nil))
		assert.NotContains(t, r.text, "wet")
	})
	t.Run("one object under two types", func(t *testing.T) {
		r := run(t, nil, func(d digger) error {
			return d.Provide(func() (digWater, digBuoy) { g := &digGauge{}; return g, g })
		}, func(digger) error { return nil }, func(digWater, digBuoy) {}, nil)
		assert.Equal(t, map[string]int{"recorded_test.digWater": 1}, r.count(event.Make, nil))
		assert.Empty(t, r.found())
	})
	t.Run("disposed twice", func(t *testing.T) {
		r := run(t, nil, office, request, func(d *digDesk) {}, func(rec *record.Recorder) {
			root := uberdig.New(rec)
			assert.NoError(t, root.Provide(func() *digLedger { return &digLedger{c, nil} }))
			assert.NoError(t, root.Invoke(func(l *digLedger) { rec.Closed(l); rec.Closed(l) }))
		})
		assert.Equal(t, []found{{"disposal/twice", "recorded_test.digLedger", ""}}, r.found())
	})
}

// TestUberDigOff checks that a request costs no allocation more than without the adapter while nothing is recorded, but for the
// scope that stands for dig's.
func TestUberDigOff(t *testing.T) {
	c := newTally()
	plain := dig.New()
	require.NoError(t, digOffice(plain, c))
	without := testing.AllocsPerRun(100, func() {
		scope := plain.Scope("request")
		_ = digRequest(scope, c)
		_ = scope.Invoke(func(*digDesk) {})
	})
	rec, err := record.Start(record.Config{App: "harbour", Output: io.Discard, Off: true})
	require.NoError(t, err)
	under := uberdig.New(rec)
	require.NoError(t, digOffice(under, c))
	with := testing.AllocsPerRun(100, func() {
		scope := under.Scope("request")
		_ = digRequest(scope, c)
		_ = scope.Invoke(func(*digDesk) {})
	})
	assert.InDelta(t, without, with, 1)
	require.NoError(t, rec.Close(t.Context()))
}
