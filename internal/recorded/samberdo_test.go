package recorded_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/samber/do/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	other "keenlantern.example/internal/recorded/berths/model"
	"keenlantern.example/internal/recorded/model"
	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/samberdo"
)

// The parts of the application.
type (
	doClock  struct{ tally *tally }
	doMast   struct{ charts []string }
	doTides  struct{ clock *doClock }
	doLedger struct {
		tally *tally
		tides doWater
	}
	doPage struct{ tally *tally }
	doDesk struct {
		Ledger *doLedger `do:""`
		Page   *doPage   `do:""`
	}
	doWater interface{ Height() float64 }
)

func (c *doClock) Shutdown() error                 { c.tally.add(c.tally.ended, "clock"); return nil }
func (l *doLedger) Shutdown(context.Context) error { l.tally.add(l.tally.ended, "ledger"); return nil }
func (t *doTides) Height() float64                 { return 2 }

// doOffice registers what there is one of, in all the ways that the library has.
func doOffice(c *tally) func(do.Injector) {
	return do.Package(
		do.Lazy(func(do.Injector) (*doClock, error) {
			time.Sleep(c.slow) // several ask for it meanwhile
			return built(c, "clock", &doClock{c}), nil
		}),
		do.Eager(&model.Chart{Name: "approach"}),
		do.Eager(&other.Chart{Berths: 7}),
		do.Eager(model.Chart{Name: "by value"}),
		do.EagerNamed("gain", 3),
		do.LazyNamed("mast", func(i do.Injector) (*doMast, error) {
			a, b := do.MustInvoke[*model.Chart](i), do.MustInvoke[*other.Chart](i)
			return built(c, "mast", &doMast{[]string{a.Name, fmt.Sprint(b.Berths, do.MustInvokeNamed[int](i, "gain"))}}), nil
		}),
		do.Lazy(func(i do.Injector) (*doTides, error) {
			return built(c, "tides", &doTides{do.MustInvoke[*doClock](i)}), nil
		}),
		do.Bind[*doTides, doWater](),
		do.Transient(func(i do.Injector) (*doPage, error) { return built(c, "page", &doPage{c}), nil }),
	)
}

// doRequest registers what each request has of its own.
func doRequest(c *tally) func(do.Injector) {
	return do.Package(
		do.Lazy(func(i do.Injector) (*doLedger, error) {
			return built(c, "ledger", &doLedger{c, do.MustInvoke[doWater](i)}), nil
		}),
		do.Lazy(func(i do.Injector) (*doDesk, error) {
			desk, err := do.InvokeStruct[doDesk](i)
			return built(c, "desk", &desk), err
		}),
	)
}

// doHandler serves requests, each in a scope of the container.
func doHandler(root do.Injector, c *tally, open func(r *http.Request) do.Injector, work func(do.Injector) error) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /berths", func(w http.ResponseWriter, r *http.Request) {
		scope := open(r)
		defer scope.Shutdown()
		if err := work(scope); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	})
	return mux
}

// TestSamberDo checks that an application that was not written for it is recorded by one line, and nothing is found in it.
func TestSamberDo(t *testing.T) {
	c := newTally()
	c.slow = 400 * time.Millisecond
	got := recorded(t, func(rec *record.Recorder) {
		root := samberdo.New(rec, nil, doOffice(c))
		requests := do.NameOf[*doDesk]() // any text: a scope's name is another each time
		var n = make(chan int, 1)
		n <- 0
		h := record.Handler(rec, doHandler(root, c, func(*http.Request) do.Injector {
			k := <-n
			n <- k + 1
			return root.Scope(fmt.Sprintf("request %d of %s", k, requests), doRequest(c))
		}, func(scope do.Injector) error {
			if _, err := do.Invoke[*doDesk](scope); err != nil {
				return err
			}
			if _, err := do.InvokeNamed[*doMast](scope, "mast"); err != nil {
				return err
			}
			if _, err := do.InvokeAs[doWater](scope); err != nil {
				return err
			}
			_, err := do.Invoke[*doPage](root)
			return err
		}))
		served(t, h, 200, "/berths")
		require.True(t, root.Shutdown().Succeed)
	})
	got.sound(t)
	assert.Positive(t, got.nested(t, 32))
	makes := got.count(event.Make, nil)
	for service, name := range map[string]string{
		"recorded_test.doClock": "clock", "mast": "mast", "recorded_test.doTides": "tides", "recorded_test.doPage": "page",
		"recorded_test.doLedger": "ledger", "recorded_test.doDesk": "desk",
	} {
		assert.Equal(t, c.built[name], makes[service], "%s: %s", service, shown(makes))
	}
	assert.Equal(t, 1, makes["model.Chart"], shown(makes))
	assert.Equal(t, 1, makes["berths/model.Chart"], "a namesake in another package: %s", shown(makes))
	ends := got.count(event.Dispose, func(e *event.Event) bool { return e.State == "" || e.State == "done" })
	assert.Equal(t, map[string]int{"recorded_test.doClock": c.ended["clock"], "recorded_test.doLedger": c.ended["ledger"]}, ends)
	opens, long := 0, 0
	for _, e := range got.events {
		if e.Kind == event.Make && got.regs[e.Reg].Service == "recorded_test.doLedger" && e.NS > 350_000_000 {
			long++ // all of the first waited for the clock, and one built it
		}
		if e.Kind == event.Open {
			opens++
			assert.Equal(t, "GET /berths", e.Name)
		}
		if e.Kind == event.Register && e.Service == "recorded_test.doWater" {
			assert.NotZero(t, got.regs[e.Reg].Alias, "an alias")
		}
		if e.Kind == event.Register {
			assert.Regexp(t, `^samberdo_test\.go:\d+$`, e.At)
		}
	}
	assert.Equal(t, 200, opens, "one scope for each request")
	assert.LessOrEqual(t, long, 1, "waiting for another goroutine is no construction")
}

// TestSamberDoWaiting checks that who waits for what another goroutine builds has not built it, also where all of them leave the
// container's lock before the first has recorded what was built.
func TestSamberDoWaiting(t *testing.T) {
	const many, slow = 8, 300 * time.Millisecond
	c := newTally()
	got := recorded(t, func(rec *record.Recorder) {
		var asked, again sync.WaitGroup
		asked.Add(many)
		again.Add(many)
		var times atomic.Int32
		root := do.NewWithOpts(&do.InjectorOpts{HookBeforeInvocation: []func(*do.Scope, string){func(_ *do.Scope, name string) {
			switch {
			case name != do.NameOf[*doClock]():
			case times.Add(1) <= many:
				asked.Done() // by a request
			default:
				again.Done() // by the adapter, which has seen that the clock is not recorded yet
				again.Wait()
			}
		}}})
		samberdo.Record(rec, root)
		do.Provide(root, func(do.Injector) (*doClock, error) {
			asked.Wait()
			time.Sleep(slow)
			return built(c, "clock", &doClock{c}), nil
		})
		do.ProvideTransient(root, func(i do.Injector) (*doTides, error) {
			return built(c, "tides", &doTides{do.MustInvoke[*doClock](i)}), nil
		})
		var all sync.WaitGroup
		for range many {
			all.Go(func() { do.MustInvoke[*doTides](root) })
		}
		all.Wait()
	})
	assert.Equal(t, map[string]int{"clock": 1, "tides": many}, c.built)
	took := map[string]int{}
	for _, e := range got.events {
		if e.Kind == event.Make && time.Duration(e.NS) >= slow {
			took[got.regs[e.Reg].Service]++
		}
	}
	assert.Equal(t, map[string]int{"recorded_test.doClock": 1, "recorded_test.doTides": 1}, took, "only the clock and the tides were built")
}

// TestSamberDoSame checks that an application does under the adapter what it does without: names, errors, clones, overrides.
func TestSamberDoSame(t *testing.T) {
	behave := func(root *do.RootScope) (said []string) {
		note := func(v any, err error) {
			said = append(said, strings.ReplaceAll(fmt.Sprint(v, " ", err), root.ID(), "ID"))
		}
		do.Provide(root, func(do.Injector) (*model.Chart, error) { return &model.Chart{Name: "one"}, nil })
		do.Provide(root, func(do.Injector) (*other.Chart, error) { return &other.Chart{Berths: 1}, nil })
		do.Provide(root, func(do.Injector) (model.Chart, error) { return model.Chart{Name: "value"}, nil })
		do.Provide(root, func(i do.Injector) (*doTides, error) { return &doTides{do.MustInvoke[*doClock](i)}, nil })
		do.Provide(root, func(i do.Injector) (*doLedger, error) { return nil, errors.New("the ledger is wet") })
		do.Provide(root, func(i do.Injector) (*doMast, error) { _, err := do.Invoke[*doDesk](i); return nil, err })
		do.Provide(root, func(i do.Injector) (*doDesk, error) { _, err := do.Invoke[*doMast](i); return nil, err })
		v, err := do.Invoke[model.Chart](root)
		note(v, err)
		_, err = do.Invoke[*doTides](root)
		note(nil, err)
		_, err = do.Invoke[*doLedger](root)
		note(nil, err)
		_, err = do.Invoke[*doMast](root)
		note(nil, err)
		_, err = do.Invoke[*doPage](root)
		note(nil, err)
		do.OverrideValue(root, &model.Chart{Name: "two"})
		chart, err := do.Invoke[*model.Chart](root)
		note(chart, err)
		clone := root.Clone()
		do.Override(clone, func(do.Injector) (*model.Chart, error) { return &model.Chart{Name: "clone's"}, nil })
		chart, err = do.Invoke[*model.Chart](clone)
		note(chart, err)
		chart, err = do.Invoke[*model.Chart](root)
		note(chart, err)
		func() {
			defer func() { note(recover(), nil) }()
			do.Provide(root, func(do.Injector) (*other.Chart, error) { return nil, nil })
		}()
		note(len(root.ListProvidedServices()), nil)
		note(clone.Shutdown().Succeed, nil)
		note(root.Shutdown().Succeed, nil)
		return said
	}
	plain := behave(do.New())
	var under []string
	got := recorded(t, func(rec *record.Recorder) { under = behave(samberdo.New(rec, nil)) })
	assert.Equal(t, plain, under)
	assert.Equal(t, map[string]int{"recorded_test.doClock": 1, "recorded_test.doDesk": 1, "recorded_test.doLedger": 1}, got.count(event.Fail, nil))
}

// doMistake runs the application with a mistake and returns what was found.
func doMistake(t *testing.T, office, request func(do.Injector), work func(root, scope do.Injector) error) []found {
	t.Helper()
	got := recorded(t, func(rec *record.Recorder) {
		root := samberdo.New(rec, nil, office)
		for n := range 50 {
			ctx, scope := samberdo.Open(t.Context(), root, "request", "GET /berths", request)
			if err := work(root, scope); err != nil && n == 0 {
				t.Log(err)
			}
			samberdo.Close(ctx, scope)
		}
		samberdo.Close(t.Context(), root)
	})
	return got.found()
}

// TestSamberDoMistakes holds what each mistake gives. The container makes a double disposal impossible; a layer gone round is
// among the mistakes of demo/harbour.
func TestSamberDoMistakes(t *testing.T) {
	c := newTally()
	desk := func(_, scope do.Injector) error { _, err := do.Invoke[*doDesk](scope); return err }
	t.Run("a captive", func(t *testing.T) {
		// The singleton's constructor asks the scope of the request that came first.
		var first do.Injector
		assert.Equal(t, []found{{"captive/scoped", "recorded_test.doLedger", "recorded_test.doMast"}}, doMistake(t,
			do.Package(doOffice(c), do.Lazy(func(do.Injector) (*doMast, error) { do.MustInvoke[*doLedger](first); return &doMast{}, nil })),
			doRequest(c), func(root, scope do.Injector) error {
				first = scope
				_, err := do.Invoke[*doMast](scope)
				return err
			}))
	})
	t.Run("a captive taken before recording began", func(t *testing.T) {
		got := recorded(t, func(rec *record.Recorder) {
			root := samberdo.New(rec, nil, doOffice(c))
			scope := root.Scope("request 1", doRequest(c))
			do.Provide(root, func(do.Injector) (*doMast, error) { do.MustInvoke[*doLedger](scope); return &doMast{}, nil })
			do.MustInvoke[*doMast](root)
			scope.Shutdown()
			rec.Set(record.Setting{On: true})
			do.MustInvoke[*doMast](root)
			root.Shutdown()
		}, func(cfg *record.Config) { cfg.Off = true })
		assert.Equal(t, []found{{"captive/scoped", "recorded_test.doLedger", "recorded_test.doMast"}}, got.found(), got.text)
	})
	t.Run("a missing one deep below", func(t *testing.T) {
		assert.Equal(t, []found{{"resolve/missing", "recorded_test.doWater", "recorded_test.doLedger"}}, doMistake(t,
			do.Transient(func(i do.Injector) (*doPage, error) { return &doPage{c}, nil }), doRequest(c), desk))
	})
	t.Run("a wrong key", func(t *testing.T) {
		assert.Equal(t, []found{{"keys/missing", "recorded_test.doMast [masst]", "GET /berths"}}, doMistake(t, func(i do.Injector) {
			samberdo.Register(i, func(do.Injector) (*doMast, error) { return &doMast{}, nil }, samberdo.Key("mast"))
		}, doRequest(c), func(_, scope do.Injector) error {
			_, err := samberdo.Ask[*doMast](scope, samberdo.Key("masst"), samberdo.Entry("GET /berths"))
			return err
		}))
	})
	t.Run("a failing constructor", func(t *testing.T) {
		got := recorded(t, func(rec *record.Recorder) {
			root := samberdo.New(rec, nil)
			do.Provide(root, func(do.Injector) (*doLedger, error) { panic("the ledger is wet") })
			do.Provide(root, func(i do.Injector) (*doDesk, error) { return &doDesk{Ledger: do.MustInvoke[*doLedger](i)}, nil })
			for range 50 {
				_, err := do.Invoke[*doDesk](root)
				require.Error(t, err)
			}
		})
		assert.Equal(t, map[string]int{"recorded_test.doLedger": 50}, got.count(event.Fail, nil))
		assert.Equal(t, []found{{"resolve/failed", "recorded_test.doLedger", "recorded_test.doDesk"}}, got.found())
		assert.NotContains(t, got.text, "wet")
	})
	t.Run("a leak", func(t *testing.T) {
		assert.Equal(t, []found{{"disposal/leaked", "recorded_test.doLedger", ""}}, doMistake(t, doOffice(c), func(i do.Injector) {
			do.ProvideTransient(i, samberdo.Seen(func(i do.Injector) (*doLedger, error) { return &doLedger{c, nil}, nil }))
		}, func(_, scope do.Injector) error { _, err := do.Invoke[*doLedger](scope); return err }))
	})
	t.Run("a closed scope", func(t *testing.T) {
		got := recorded(t, func(rec *record.Recorder) {
			root := samberdo.New(rec, nil, doOffice(c))
			_, scope := samberdo.Open(t.Context(), root, "request", "GET /berths", doRequest(c))
			do.MustInvoke[*doDesk](scope)
			samberdo.Close(t.Context(), scope)
			_, err := samberdo.Ask[*doDesk](scope, samberdo.Entry("GET /berths"))
			require.ErrorIs(t, err, do.ErrServiceNotFound)
			samberdo.Close(t.Context(), root)
		})
		assert.Equal(t, []found{{"resolve/closed-scope", "recorded_test.doDesk", "GET /berths"}}, got.found(), got.text)
	})
}

// TestSamberDoOff checks that a request costs no allocation more than without the adapter while nothing is recorded.
func TestSamberDoOff(t *testing.T) {
	c := newTally()
	request := func(root do.Injector, wiring func(do.Injector)) func() {
		n := 0
		return func() {
			n++
			scope := root.Scope(fmt.Sprint("request ", n), wiring)
			_ = do.MustInvoke[*doDesk](scope)
			scope.Shutdown()
		}
	}
	allocs := func(root *do.RootScope) float64 {
		do.MustInvoke[doWater](root)
		return testing.AllocsPerRun(200, request(root, doRequest(c)))
	}
	plain := allocs(do.New(doOffice(c)))
	rec, err := record.Start(record.Config{App: "harbour", Output: &strings.Builder{}, Off: true})
	require.NoError(t, err)
	assert.InDelta(t, plain, allocs(samberdo.New(rec, nil, doOffice(c))), 1)
	require.NoError(t, rec.Close(t.Context()))
}
