package recorded_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"github.com/samber/do/v2"
	"github.com/stretchr/testify/require"
	"go.uber.org/dig"
	"go.uber.org/fx"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
	"keenlantern.example/record/uberdig"
	"keenlantern.example/record/uberfx"
	"keenlantern.example/record/wired"
)

// BenchmarkOverhead measures what recording costs a request under each adapter, over HTTP on loopback: with the container alone,
// with the adapter and recording off, with one scope in ten, and with all; in short turns, so that a busy machine is as busy for
// all. It prints the medians as ratios to the container alone: 'make overhead'.
func BenchmarkOverhead(b *testing.B) {
	for name, serve := range map[string]func(*testing.B, *record.Recorder) http.Handler{"do": doBench, "dig": digBench, "fx": fxBench, "wired": wiredBench} {
		b.Run(name, func(b *testing.B) {
			modes := []struct {
				name   string
				config *record.Config
			}{
				{"alone", nil}, {"off", &record.Config{Off: true}}, {"tenth", &record.Config{Setting: record.Setting{Share: 0.1}}}, {"on", &record.Config{}},
			}
			took := make([][]time.Duration, len(modes))
			var servers []*httptest.Server
			for _, m := range modes {
				var rec *record.Recorder
				if m.config != nil {
					m.config.App, m.config.Output = "harbour", io.Discard
					var err error
					rec, err = record.Start(*m.config)
					require.NoError(b, err)
					b.Cleanup(func() { require.NoError(b, rec.Close(context.Background())) })
				}
				s := httptest.NewServer(serve(b, rec))
				b.Cleanup(s.Close)
				servers = append(servers, s)
			}
			turn := func(n int, count bool) {
				for range 40 {
					began := time.Now()
					res, err := servers[n].Client().Get(servers[n].URL)
					if err != nil || res.StatusCode != http.StatusOK {
						b.Fatal(err, res)
					}
					_, _ = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close()
					if count {
						took[n] = append(took[n], time.Since(began))
					}
				}
			}
			for n := range modes {
				turn(n, false)
			}
			for b.Loop() {
				for n := range modes {
					turn(n, true)
				}
			}
			median := func(n int) float64 {
				slices.Sort(took[n])
				return float64(took[n][len(took[n])/2])
			}
			b.ReportMetric(median(0)/1e3, "alone-us")
			for n := 1; n < len(modes); n++ {
				b.ReportMetric(median(n)/median(0), modes[n].name+"-ratio")
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}

func doBench(_ *testing.B, rec *record.Recorder) http.Handler {
	c := newTally()
	root := samberdo.New(rec, nil, doOffice(c))
	n := make(chan int, 1)
	n <- 0
	return record.Handler(rec, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		k := <-n
		n <- k + 1
		scope := root.Scope(fmt.Sprint("request ", k), doRequest(c))
		do.MustInvoke[*doDesk](scope)
		scope.Shutdown()
	}))
}

func digBench(b *testing.B, rec *record.Recorder) http.Handler {
	c := newTally()
	if rec == nil {
		plain := dig.New()
		require.NoError(b, digOffice(plain, c))
		return http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
			scope := plain.Scope("request")
			if err := digRequest(scope, c); err != nil || scope.Invoke(func(*digDesk) {}) != nil {
				panic("it fails")
			}
		})
	}
	root := uberdig.New(rec)
	require.NoError(b, digOffice(root, c))
	return record.Handler(rec, http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		scope := root.Scope("request")
		defer scope.Close()
		if err := digRequest(scope, c); err != nil || scope.Invoke(func(*digDesk) {}) != nil {
			panic("it fails")
		}
	}))
}

func fxBench(b *testing.B, rec *record.Recorder) http.Handler {
	var desk *fxDesk
	app := fx.New(uberfx.Record(rec), fx.NopLogger, fxOffice(newTally()), uberfx.Seen[*fxDesk](rec), fx.Populate(&desk))
	require.NoError(b, app.Start(context.Background()))
	b.Cleanup(func() { require.NoError(b, app.Stop(context.Background())) })
	return record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		defer record.Call(r.Context(), desk, nil)()
	}))
}

func wiredBench(b *testing.B, rec *record.Recorder) http.Handler {
	c := newTally()
	w := wired.New(rec)
	water := wired.Provide(w, wired.Singleton, func(*wired.Building) (handWater, error) { return &handGauge{c}, nil })
	ledger := wired.Provide(w, wired.Scoped, func(b *wired.Building) (*handLedger, error) {
		_, err := water.Get(b)
		return &handLedger{c}, err
	})
	return record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, scope := w.Within(r.Context(), record.Scope{Kind: "request"})
		if _, err := ledger.Get(scope); err != nil {
			panic(err)
		}
		_ = scope.Close()
	}))
}
