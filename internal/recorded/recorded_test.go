package recorded_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sort"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// recording is what was recorded of an application, and found in it.
type recording struct {
	*engine.Result
	events []event.Event
	text   string
	regs   map[event.RegID]event.Event
}

// recorded runs an application with a recorder and returns what was recorded. It is read whole and without a problem.
func recorded(t *testing.T, run func(rec *record.Recorder), how ...func(*record.Config)) *recording {
	t.Helper()
	var out bytes.Buffer
	cfg := record.Config{App: "harbour", Output: &out}
	for _, h := range how {
		h(&cfg)
	}
	rec, err := record.Start(cfg)
	require.NoError(t, err)
	run(rec)
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	require.NoError(t, rec.Close(ctx))
	return read(t, out.Bytes())
}

func read(t *testing.T, text []byte) *recording {
	t.Helper()
	told, err := conform.Check(bytes.NewReader(text))
	require.NoError(t, err)
	require.True(t, told.Conforms, "%v\n%.4000s", told.Problems, text)
	got := &recording{text: string(text), regs: map[event.RegID]event.Event{}}
	got.Result, err = engine.Analyse(t.Context(), bytes.NewReader(text), reader.Options{}, rules.Default())
	require.NoError(t, err)
	for in := reader.New(bytes.NewReader(text), reader.Options{}); ; {
		line, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
		e := line.Event.Clone()
		got.events = append(got.events, *e)
		if e.Kind == event.Register {
			got.regs[e.Reg] = *e
		}
	}
	return got
}

// found is a finding as tests compare it.
type found struct{ rule, subject, holder string }

func (r *recording) found() []found {
	var list []found
	for _, f := range r.Findings {
		if f.Severity < finding.Warning {
			continue
		}
		one := found{f.Rule, f.Subject.Name(), ""}
		if f.Holder != nil {
			one.holder = f.Holder.Service
		}
		list = append(list, one)
	}
	return list
}

// sound requires that nothing at all was found.
func (r *recording) sound(t *testing.T) {
	t.Helper()
	for _, f := range r.Findings {
		if f.Rule == "inject/absent" && f.Severity == finding.Note {
			continue // optional parameters that stay empty, which is what they are for
		}
		t.Errorf("%s %s: %s %s", f.Severity, f.Rule, f.Title, f.Why)
	}
	if t.Failed() {
		t.Logf("%.6000s", r.text)
	}
}

// count returns how many events of a kind there are of each service.
func (r *recording) count(kind event.Kind, also func(*event.Event) bool) map[string]int {
	counts := map[string]int{}
	of := map[event.InstID]event.RegID{}
	for n := range r.events {
		e := &r.events[n]
		if e.Kind == event.Make {
			of[e.Inst] = e.Reg
		}
		if e.Kind != kind || also != nil && !also(e) {
			continue
		}
		if kind == event.Fail {
			counts[e.Service]++
			continue
		}
		counts[r.regs[of[e.Inst]].Service]++
	}
	return counts
}

// nested requires that what was built for something was built within its construction: that own times are what they say. It counts
// the pairs of which that can be said: what belongs to a scope, kept by what was built in the same scope. So many may be otherwise:
// of those who waited for another goroutine, the wait is left out, and with it what they had built before.
func (r *recording) nested(t *testing.T, waited int) (pairs int) {
	t.Helper()
	makes := map[event.InstID]*event.Event{}
	for n := range r.events {
		e := &r.events[n]
		if e.Kind != event.Make {
			continue
		}
		makes[e.Inst] = e
		for _, w := range e.With {
			d := makes[w.Inst]
			if d == nil || r.regs[d.Reg].Lifetime == "singleton" || r.regs[d.Reg].Lifetime == "external" || !d.Has.Has(event.FNS) || !e.Has.Has(event.FNS) {
				continue
			}
			pairs++
			if d.T-d.NS < e.T-e.NS && waited > 0 {
				waited--
				continue
			}
			assert.GreaterOrEqual(t, d.T-d.NS, e.T-e.NS, "%d for %d", d.Inst, e.Inst)
			assert.LessOrEqual(t, d.T, e.T, "%d for %d", d.Inst, e.Inst)
		}
	}
	return pairs
}

// own returns the time that constructors took by themselves, all together.
func (r *recording) own(t *testing.T) (sum int64) {
	t.Helper()
	list, err := engine.Study(t.Context(), bytes.NewReader([]byte(r.text)), reader.Options{}, rules.Default())
	require.NoError(t, err)
	for _, reg := range list[0].State.Registrations {
		sum += reg.OwnNS
	}
	return sum
}

// tally is what an application counts of itself.
type tally struct {
	mu                   sync.Mutex
	built, ended, failed map[string]int
	slow                 time.Duration // that the clock takes to build
}

func newTally() *tally {
	return &tally{built: map[string]int{}, ended: map[string]int{}, failed: map[string]int{}}
}

func (c *tally) add(to map[string]int, name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	to[name]++
}

// built counts that v was constructed as a service, and returns it.
func built[T any](c *tally, name string, v T) T {
	c.add(c.built, name)
	return v
}

// served runs many requests against a handler, several at a time, and requires that all succeed.
func served(t *testing.T, h http.Handler, many int, paths ...string) {
	t.Helper()
	server := httptest.NewServer(h)
	defer server.Close()
	var left atomic.Int64
	left.Store(int64(many))
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for n := left.Add(-1); n >= 0; n = left.Add(-1) {
				res, err := server.Client().Get(server.URL + paths[int(n)%len(paths)])
				if !assert.NoError(t, err) {
					return
				}
				said, _ := io.ReadAll(res.Body)
				_ = res.Body.Close()
				assert.Equal(t, http.StatusOK, res.StatusCode, "%s", said)
			}
		})
	}
	all.Wait()
}

// shown lists counts in order, for messages.
func shown(counts map[string]int) string {
	var list []string
	for k, n := range counts {
		list = append(list, fmt.Sprintf("%s: %d", k, n))
	}
	sort.Strings(list)
	return fmt.Sprint(list)
}
