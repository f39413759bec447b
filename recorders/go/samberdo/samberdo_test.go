package samberdo_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/samber/do/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/record"
	"keenlantern.example/record/samberdo"
)

type tides interface{ height() float64 }

type gaugeTides struct {
	clock *clock
	ended bool
}

func (g *gaugeTides) height() float64 { return 2 }
func (g *gaugeTides) Shutdown()       { g.ended = true }

type clock struct{ ticks int }

type page struct{ n int }

func (p *page) Shutdown() error { return nil }

// outline writes a recording as one short line an event, times and places left out.
func outline(t *testing.T, text string) string {
	t.Helper()
	out := &strings.Builder{}
	for line := range strings.Lines(text) {
		var e map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &e), line)
		fmt.Fprintf(out, "%v", e["ev"])
		for _, name := range []string{"service", "key", "lifetime", "disposer", "local", "inst", "reg", "scope", "in", "by", "impl", "disposable", "entry", "to", "how", "site", "state", "why", "with"} {
			if v, ok := e[name]; ok {
				b, err := json.Marshal(v)
				require.NoError(t, err)
				fmt.Fprintf(out, " %s=%s", name, strings.ReplaceAll(string(b), `"`, ""))
			}
		}
		out.WriteByte('\n')
	}
	return out.String()
}

// TestApplication records a small application with a scope a request and compares all that was written.
func TestApplication(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	require.NoError(t, err)
	root := samberdo.New(rec, nil)
	samberdo.Register(root, func(do.Injector) (*clock, error) { return &clock{ticks: 1}, nil })
	samberdo.RegisterValue(root, &page{1}, samberdo.Key("cover"))
	request := func(i do.Injector) {
		samberdo.Register(i, func(i do.Injector) (tides, error) {
			return &gaugeTides{clock: samberdo.MustAsk[*clock](i, samberdo.Site("clock"))}, nil
		})
		samberdo.RegisterEach(i, func(do.Injector) (*page, error) { return &page{2}, nil })
	}
	var pages []*page // alive to the end: what is collected earlier would be told
	for range 2 {
		ctx, scope, done := samberdo.Open(t.Context(), root, "request", "GET /tides", request)
		got, err := samberdo.Ask[tides](scope, samberdo.Entry("GET /tides"))
		require.NoError(t, err)
		record.Call(ctx, got, nil)()
		fresh, err := samberdo.Ask[*page](scope, samberdo.To(got, "page"))
		require.NoError(t, err)
		pages = append(pages, fresh)
		cover, err := samberdo.Ask[*page](scope, samberdo.Key("cover"), samberdo.Entry("GET /tides"))
		require.NoError(t, err)
		assert.Equal(t, 1, cover.n)
		_, err = samberdo.Ask[*page](scope, samberdo.Key("none"))
		require.ErrorIs(t, err, do.ErrServiceNotFound)
		assert.True(t, done(t.Context()).Succeed)
		assert.True(t, got.(*gaugeTides).ended, "the container itself disposed it")
	}
	assert.True(t, samberdo.Close(t.Context(), root).Succeed)
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	require.NoError(t, rec.Close(ctx))
	runtime.KeepAlive(pages)
	assert.Equal(t, strings.TrimLeft(`
hello
container scope=0
register service=samberdo_test.clock lifetime=singleton reg=1
register service=samberdo_test.page key=cover lifetime=external disposer=container reg=2 impl=samberdo_test.page
make inst=1 reg=2 scope=0 by=external disposable=true
open scope=1
register service=samberdo_test.tides lifetime=scoped local=true reg=3
register service=samberdo_test.page lifetime=transient disposer=nobody local=true reg=4
make inst=2 reg=1 scope=0 by=factory impl=samberdo_test.clock
make inst=3 reg=3 scope=1 by=factory impl=samberdo_test.gaugeTides disposable=true with=[{inst:2,service:samberdo_test.clock,site:clock}]
give service=samberdo_test.tides inst=3 scope=1 entry=GET /tides how=locator
use inst=3 scope=1
make inst=4 reg=4 scope=1 by=factory impl=samberdo_test.page disposable=true
give service=samberdo_test.page inst=4 scope=1 to=3 how=locator site=page
give service=samberdo_test.page key=cover inst=1 scope=1 entry=GET /tides how=locator
fail service=samberdo_test.page key=none scope=1 why=missing
dispose inst=3 scope=1 by=container state=begun
dispose inst=3 scope=1 by=container state=done
close scope=1
open scope=2
make inst=5 reg=3 scope=2 by=factory impl=samberdo_test.gaugeTides disposable=true with=[{inst:2,service:samberdo_test.clock,site:clock}]
give service=samberdo_test.tides inst=5 scope=2 entry=GET /tides how=locator
use inst=5 scope=2
make inst=6 reg=4 scope=2 by=factory impl=samberdo_test.page disposable=true
give service=samberdo_test.page inst=6 scope=2 to=5 how=locator site=page
give service=samberdo_test.page key=cover inst=1 scope=2 entry=GET /tides how=locator
fail service=samberdo_test.page key=none scope=2 why=missing
dispose inst=5 scope=2 by=container state=begun
dispose inst=5 scope=2 by=container state=done
close scope=2
dispose inst=1 scope=0 by=container state=begun
dispose inst=1 scope=0 by=container state=done
close scope=0
bye
`, "\n"), outline(t, out.String()))
}

type chicken struct{ egg *egg }
type egg struct{ chicken *chicken }

// TestFailures holds that the container's own answers stay as they are, cycles included, and that no application text
// gets into the recording.
func TestFailures(t *testing.T) {
	var out bytes.Buffer
	rec, err := record.Start(record.Config{App: "harbour", Output: &out})
	require.NoError(t, err)
	root := samberdo.New(rec, nil)
	samberdo.Register(root, func(i do.Injector) (*chicken, error) { return &chicken{samberdo.MustAsk[*egg](i)}, nil })
	samberdo.Register(root, func(i do.Injector) (*egg, error) { return &egg{samberdo.MustAsk[*chicken](i)}, nil })
	samberdo.Register(root, func(do.Injector) (*page, error) { return nil, errors.New("the password is hunter2") })
	_, err = samberdo.Ask[*chicken](root)
	require.ErrorIs(t, err, do.ErrCircularDependency)
	_, err = samberdo.Ask[*page](root)
	require.ErrorContains(t, err, "hunter2")
	require.NoError(t, rec.Close(t.Context()))
	assert.NotContains(t, out.String(), "hunter2")
	assert.Contains(t, outline(t, out.String()), "fail service=samberdo_test.chicken scope=0 why=cycle")
	assert.Contains(t, outline(t, out.String()), "fail service=samberdo_test.page scope=0 why=error")
}

// TestNotRecorded holds that everything works the same without a recorder.
func TestNotRecorded(t *testing.T) {
	root := samberdo.New(nil, nil)
	samberdo.RegisterValue(root, &clock{ticks: 7})
	_, scope, done := samberdo.Open(t.Context(), root, "request", "GET /", func(i do.Injector) {
		samberdo.Register(i, func(i do.Injector) (tides, error) { return &gaugeTides{clock: samberdo.MustAsk[*clock](i)}, nil })
	})
	got, err := samberdo.Ask[tides](scope)
	require.NoError(t, err)
	assert.Equal(t, 7, got.(*gaugeTides).clock.ticks)
	assert.True(t, done(t.Context()).Succeed)
	assert.True(t, samberdo.Close(t.Context(), root).Succeed)
}
