package recorded_test

import (
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	other "keenlantern.example/internal/recorded/berths/model"
	"keenlantern.example/internal/recorded/model"
	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/wired"
)

// The parts of the application.
type (
	handClock  struct{ tally *tally }
	handWater  interface{ Height() float64 }
	handGauge  struct{ tally *tally }
	handTides  struct{ inner handWater }
	handLedger struct{ tally *tally }
	handDesk   struct{}
)

func (g *handGauge) Height() float64 { return 2 }
func (t *handTides) Height() float64 { return t.inner.Height() }
func (l *handLedger) Close() error   { l.tally.add(l.tally.ended, "ledger"); return nil }

func got[T any](t require.TestingT, s *wired.Service[T], a wired.Asker) T {
	v, err := s.Get(a)
	require.NoError(t, err)
	return v
}

// TestWired checks that nothing is found in a sound application that is wired by hand, and that the recording equals its own counters.
func TestWired(t *testing.T) {
	c := newTally()
	r := recorded(t, func(rec *record.Recorder) {
		w := wired.New(rec)
		clock := wired.Provide(w, wired.Singleton, func(*wired.Building) (*handClock, error) {
			time.Sleep(2 * time.Millisecond)
			return built(c, "clock", &handClock{c}), nil
		}, wired.DisposeWith(func(k *handClock) error { c.add(c.ended, "clock"); return nil }))
		chart := wired.Provide(w, wired.Singleton, func(*wired.Building) (*model.Chart, error) { return &model.Chart{}, nil })
		plan := wired.Provide(w, wired.Singleton, func(*wired.Building) (*other.Chart, error) { return &other.Chart{}, nil })
		water := wired.Provide(w, wired.Scoped, func(b *wired.Building) (handWater, error) {
			got(t, clock, b)
			return built(c, "gauge", &handGauge{c}), nil
		}, wired.DisposeWith(func(handWater) error { c.add(c.ended, "water"); return nil }))
		wired.Decorate(water, func(_ *wired.Building, inner handWater) (handWater, error) {
			return built(c, "layer", &handTides{inner}), nil
		})
		ledger := wired.Provide(w, wired.Transient, func(b *wired.Building) (*handLedger, error) {
			got(t, water, b)
			got(t, chart, b)
			got(t, plan, b)
			return built(c, "ledger", &handLedger{c}), nil
		})
		mux := http.NewServeMux()
		mux.HandleFunc("GET /berths", func(_ http.ResponseWriter, r *http.Request) {
			_, scope := w.Within(r.Context(), record.Scope{Kind: "request"})
			defer func() { assert.NoError(t, scope.Close()) }()
			got(t, ledger, scope.Entry("GET /berths"))
			got(t, ledger, scope.Entry("GET /berths"))
		})
		served(t, record.Handler(rec, mux), 200, "/berths")
		require.NoError(t, w.Close())
	})
	r.sound(t)
	assert.Equal(t, map[string]int{
		"recorded_test.handClock": 1, "model.Chart": 1, "berths/model.Chart": 1, "recorded_test.handWater": c.built["gauge"] + c.built["layer"], "recorded_test.handLedger": c.built["ledger"],
	}, r.count(event.Make, nil))
	assert.Equal(t, map[string]int{"recorded_test.handClock": 1, "recorded_test.handWater": c.ended["water"], "recorded_test.handLedger": c.ended["ledger"]},
		r.count(event.Dispose, func(e *event.Event) bool { return e.State == "done" }))
	for _, e := range r.events {
		if e.Kind == event.Make && e.Reg == 1 {
			assert.Greater(t, e.NS, int64(time.Millisecond))
		}
	}
	assert.EqualValues(t, 200, r.Streams[0].Figures.Scopes, "one scope for each request")
}

// TestWiredMistakes holds what each mistake gives. It makes these impossible: a wrong key, a bypassed layer, a double disposal.
func TestWiredMistakes(t *testing.T) {
	c := newTally()
	t.Run("a cycle", func(t *testing.T) {
		r := recorded(t, func(rec *record.Recorder) {
			w := wired.New(rec)
			var desk *wired.Service[*handDesk]
			ledger := wired.Provide(w, wired.Singleton, func(b *wired.Building) (*handLedger, error) { _, err := desk.Get(b); return nil, err })
			desk = wired.Provide(w, wired.Singleton, func(b *wired.Building) (*handDesk, error) {
				time.Sleep(20 * time.Millisecond) // for another to begin
				_, err := ledger.Get(b)
				return nil, err
			})
			// From both ends at once, so that each waits for the other.
			ended := make(chan error, 2)
			go func() { _, err := desk.Get(w.Open(record.Scope{})); ended <- err }()
			go func() { _, err := ledger.Get(w.Open(record.Scope{})); ended <- err }()
			for range 2 {
				select {
				case err := <-ended:
					require.ErrorIs(t, err, wired.ErrCycle)
					assert.Regexp(t, `recorded_test.hand(Desk|Ledger) → recorded_test.hand(Ledger|Desk) → `, err.Error())
				case <-time.After(5 * time.Second):
					t.Fatal("it hangs")
				}
			}
		})
		assert.Contains(t, shown(map[string]int{r.Findings[0].Rule: 1, r.Findings[1].Rule: 1}), "resolve/cycle")
	})
	t.Run("built in a scope that closes meanwhile", func(t *testing.T) {
		r := recorded(t, func(rec *record.Recorder) {
			w := wired.New(rec)
			scope := w.Open(record.Scope{Kind: "request"})
			ledger := wired.Provide(w, wired.Transient, func(*wired.Building) (*handLedger, error) {
				require.NoError(t, scope.Close())
				return built(c, "late", &handLedger{c}), nil
			})
			_, err := ledger.Get(scope)
			require.ErrorIs(t, err, wired.ErrClosed)
			require.NoError(t, w.Close())
		})
		assert.Equal(t, map[string]int{"recorded_test.handLedger": 1}, r.count(event.Dispose, func(e *event.Event) bool { return e.State == "done" }))
	})
	t.Run("disposed with what takes something else", func(t *testing.T) {
		w := wired.New(nil)
		water := wired.Provide(w, wired.Scoped, func(*wired.Building) (handWater, error) { return &handTides{}, nil },
			wired.DisposeWith(func(*handGauge) error { return nil }))
		_, err := water.Get(w.Open(record.Scope{}))
		assert.ErrorContains(t, err, "DisposeWith")
	})
	t.Run("a captive taken before recording began", func(t *testing.T) {
		r := recorded(t, func(rec *record.Recorder) {
			w := wired.New(rec)
			ledger := wired.Provide(w, wired.Scoped, func(*wired.Building) (*handLedger, error) { return &handLedger{c}, nil })
			desk := wired.Provide(w, wired.Singleton, func(b *wired.Building) (*handDesk, error) { _, err := ledger.Get(b); return &handDesk{}, err })
			got(t, desk, w.Open(record.Scope{}))
			rec.Set(record.Setting{On: true})
			scope := w.Open(record.Scope{Kind: "request"})
			got(t, desk, scope)
			require.NoError(t, errors.Join(scope.Close(), w.Close()))
		}, func(cfg *record.Config) { cfg.Off = true })
		assert.Equal(t, []found{{"captive/scoped", "recorded_test.handLedger", "recorded_test.handDesk"}}, r.found(), r.text)
	})
	t.Run("a failing constructor", func(t *testing.T) {
		r := recorded(t, func(rec *record.Recorder) {
			w := wired.New(rec)
			ledger := wired.Provide(w, wired.Scoped, func(*wired.Building) (*handLedger, error) { return nil, errors.New("wet") })
			desk := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*handDesk, error) { _, err := ledger.Get(b); return nil, err })
			for range 50 {
				scope := w.Open(record.Scope{Kind: "request"})
				_, err := desk.Get(scope)
				require.Error(t, err)
				require.NoError(t, scope.Close())
			}
		})
		assert.Equal(t, map[string]int{"recorded_test.handLedger": 50}, r.count(event.Fail, nil))
		assert.Equal(t, []found{{"resolve/failed", "recorded_test.handLedger", "recorded_test.handDesk"}}, r.found())
	})
}
