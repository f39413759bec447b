package recorded_test

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/samber/do/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
	"keenlantern.example/record/samberdo"
	"keenlantern.example/record/uberdig"
	"keenlantern.example/record/wired"
)

type (
	stationTides struct{}
	stationDesk  struct{ tides *stationTides }
)

// TestChildOfAScope checks that the child of a scope which lives on, made in a handler, lies in that scope and not in the request, which
// belongs to it: what the two share is no crossing.
func TestChildOfAScope(t *testing.T) {
	for name, serve := range map[string]func(rec *record.Recorder) (work func(context.Context), end func()){
		"do": func(rec *record.Recorder) (func(context.Context), func()) {
			var n atomic.Int64
			root := samberdo.New(rec, nil)
			station := root.Scope("station east", do.Lazy(func(do.Injector) (*stationTides, error) { return &stationTides{}, nil }))
			return func(ctx context.Context) {
				request := station.Scope("request "+strconv.FormatInt(n.Add(1), 10), do.Lazy(func(i do.Injector) (*stationDesk, error) {
					return &stationDesk{do.MustInvoke[*stationTides](i)}, nil
				}))
				desk := do.MustInvoke[*stationDesk](request)
				record.Call(ctx, desk.tides, nil)()
				samberdo.Close(ctx, request)
			}, func() { samberdo.Close(context.Background(), station); samberdo.Close(context.Background(), root) }
		},
		"dig": func(rec *record.Recorder) (func(context.Context), func()) {
			root := uberdig.New(rec)
			var one sync.Mutex // dig is not for several goroutines at once
			station := root.Scope("station")
			require.NoError(t, station.Provide(func() *stationTides { return &stationTides{} }))
			return func(ctx context.Context) {
				one.Lock()
				defer one.Unlock()
				request := station.Scope("request")
				assert.NoError(t, request.Provide(func(tides *stationTides) *stationDesk { return &stationDesk{tides} }))
				assert.NoError(t, request.Invoke(func(desk *stationDesk) { record.Call(ctx, desk.tides, nil)() }))
				request.Close()
			}, func() { station.Close(); root.Close() }
		},
	} {
		t.Run(name, func(t *testing.T) {
			r := recorded(t, func(rec *record.Recorder) {
				work, end := serve(rec)
				served(t, record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { work(r.Context()) })), 5, "/")
				end()
			})
			r.sound(t)
			joins, station := 0, event.ScopeID(0)
			for _, e := range r.events {
				switch {
				case e.Kind == event.Join:
					joins++
				case e.Kind == event.Open && e.ScopeKind == "station":
					station = e.Scope
				case e.Kind == event.Open && e.ScopeKind == "request" && e.Name == "":
					assert.Equal(t, station, e.InScope)
				}
			}
			assert.Equal(t, 5, joins)
		})
	}
}

// TestDoTwice checks that each of two recorders of one container gets its own registrations, and that one which is given the container twice
// records it once.
func TestDoTwice(t *testing.T) {
	var second *recording
	first := recorded(t, func(rec *record.Recorder) {
		second = recorded(t, func(other *record.Recorder) {
			root := do.New()
			samberdo.Record(rec, root)
			samberdo.Record(rec, root)
			samberdo.Record(other, root)
			do.Provide(root, func(do.Injector) (*stationTides, error) { return &stationTides{}, nil })
			do.MustInvoke[*stationTides](root)
			samberdo.Close(t.Context(), root)
		})
	})
	for _, r := range []*recording{first, second} {
		assert.Len(t, r.regs, 1)
		assert.Equal(t, map[string]int{"recorded_test.stationTides": 1}, r.count(event.Make, nil))
		r.sound(t)
	}
}

// TestAskForPlainNames checks that what was registered under a name with the container's own functions can be asked for by Ask.
func TestAskForPlainNames(t *testing.T) {
	r := recorded(t, func(rec *record.Recorder) {
		root := samberdo.New(rec, nil)
		do.ProvideNamed(root, "spare", func(do.Injector) (*stationTides, error) { return &stationTides{}, nil })
		_, err := samberdo.Ask[*stationTides](root, samberdo.Key("spare"), samberdo.Entry("GET /tides"))
		require.NoError(t, err)
		_, err = samberdo.Ask[*stationTides](root, samberdo.Key("other"))
		require.ErrorIs(t, err, do.ErrServiceNotFound)
		samberdo.Close(t.Context(), root)
	})
	assert.Contains(t, r.text, `"entry":"GET /tides"`)
	require.Len(t, r.found(), 1)
	assert.Equal(t, "resolve/missing", r.found()[0].rule)
}

// TestDigAfterClose checks that requests to a closed scope of dig, which still answers, are found.
func TestDigAfterClose(t *testing.T) {
	r := recorded(t, func(rec *record.Recorder) {
		c := uberdig.Record(rec, dig.New())
		_, scope := c.Open(t.Context(), "request", "GET /tides")
		require.NoError(t, scope.Provide(func() *stationTides { return &stationTides{} }))
		scope.Close()
		require.NoError(t, scope.InvokeFor("GET /tides", func(*stationTides) {}))
		c.Close()
	})
	assert.Contains(t, r.found(), found{"resolve/closed-scope", "recorded_test.stationTides", "GET /tides"})
}

// TestWiredLifetimes checks that a word which is no lifetime is refused.
func TestWiredLifetimes(t *testing.T) {
	w := wired.New(nil)
	tides := wired.Provide(w, "forever", func(*wired.Building) (*stationTides, error) { return &stationTides{}, nil })
	_, err := tides.Get(w.Open(record.Scope{}))
	assert.ErrorContains(t, err, `"forever", which is no lifetime`)
}
