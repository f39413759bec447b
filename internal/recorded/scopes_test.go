package recorded_test

import (
	"context"
	"net/http"
	"net/http/httptest"
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

// TestScopes holds what docs/recording/go.md says of handlers and adapters together: how many scopes a piece of work gets, and in
// by which one what the container builds for it is recorded.
func TestScopes(t *testing.T) {
	type work func(ctx context.Context) // opens a scope of the container's, builds something in it and ends it
	doWork := func(open func(ctx context.Context, root *do.RootScope) do.Injector) func(*record.Recorder) work {
		return func(rec *record.Recorder) work {
			root := samberdo.New(rec, nil)
			return func(ctx context.Context) {
				scope := open(ctx, root)
				do.MustInvoke[*doTides](scope)
				samberdo.Close(ctx, scope)
			}
		}
	}
	tides := do.Lazy(func(do.Injector) (*doTides, error) { return &doTides{}, nil })
	digWork := func(open func(ctx context.Context, c *uberdig.Container) *uberdig.Scope) func(*record.Recorder) work {
		return func(rec *record.Recorder) work {
			c := uberdig.New(rec)
			return func(ctx context.Context) {
				scope := open(ctx, c)
				defer scope.Close()
				assert.NoError(t, scope.Provide(func() *doTides { return &doTides{} }))
				assert.NoError(t, scope.Invoke(func(*doTides) {}))
			}
		}
	}
	plain := 0
	adapters := map[string]func(*record.Recorder) work{
		"do, Scope": doWork(func(_ context.Context, root *do.RootScope) do.Injector {
			plain++
			return root.Scope("request "+string(rune('a'+plain)), tides)
		}),
		"do, Open": doWork(func(ctx context.Context, root *do.RootScope) do.Injector {
			_, scope := samberdo.Open(ctx, root, "request", "work", tides)
			return scope
		}),
		"dig, Scope": digWork(func(_ context.Context, c *uberdig.Container) *uberdig.Scope { return c.Scope("request") }),
		"dig, Open": digWork(func(ctx context.Context, c *uberdig.Container) *uberdig.Scope {
			_, scope := c.Open(ctx, "request", "work")
			return scope
		}),
		"wired, Within": func(rec *record.Recorder) work {
			w := wired.New(rec)
			s := wired.Provide(w, wired.Scoped, func(*wired.Building) (*doTides, error) { return &doTides{}, nil })
			return func(ctx context.Context) {
				_, scope := w.Within(ctx, record.Scope{Kind: "request"})
				got(t, s, scope)
				assert.NoError(t, scope.Close())
			}
		},
	}
	around := map[string]func(rec *record.Recorder, w work){
		"Handler": func(rec *record.Recorder, w work) {
			h := record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { w(r.Context()) }))
			h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(http.MethodGet, "/", nil))
		},
		"Run": func(rec *record.Recorder, w work) {
			require.NoError(t, rec.Run(context.Background(), "job", "night", func(ctx context.Context) error { w(ctx); return nil }))
		},
		"nothing": func(_ *record.Recorder, w work) { w(context.Background()) },
		"Handler, twice": func(rec *record.Recorder, w work) {
			h := record.Handler(rec, http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { w(r.Context()); w(r.Context()) }))
			h.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(http.MethodGet, "/", nil))
		},
	}
	for adapter, make := range adapters {
		for name, run := range around {
			t.Run(adapter+" in "+name, func(t *testing.T) {
				r := recorded(t, func(rec *record.Recorder) { run(rec, make(rec)) })
				opened := map[event.ScopeID]bool{}
				for _, e := range r.events {
					switch e.Kind {
					case event.Open:
						opened[e.Scope] = true
					case event.Make:
						assert.True(t, opened[e.Scope], "it is recorded in a scope of the work")
						assert.True(t, !e.Has.Has(event.FOwner) || e.Owner == e.Scope)
					case event.Close:
						delete(opened, e.Scope)
					}
				}
				assert.Empty(t, opened, "all are closed")
				assert.LessOrEqual(t, r.Streams[0].Figures.Scopes, int64(2))
				if name != "Handler, twice" {
					assert.EqualValues(t, 1, r.Streams[0].Figures.Scopes, "one piece of work, one scope")
				}
			})
		}
	}
	// dig itself is left as it was.
	assert.NoError(t, dig.New().Invoke(func() {}))
}
