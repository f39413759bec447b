package engine_test

import (
	"errors"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

// TestHostileTraces analyses traces that are made to crash or stop an analysis. What is asked is that each comes to an
// end within the test's time, with lines that add up and nothing broken.
func TestHostileTraces(t *testing.T) {
	for name, text := range map[string]string{
		"66,000 makes in one scope":           traces.OneScope("h", 66_000),
		"a container inside itself":           traces.Ring("h", 1),
		"seven containers in a ring":          traces.Ring("h", 7),
		"a ladder of 12 by 6":                 traces.Ladder("h", 12, 6, 1),
		"a ladder of 14 by 8, three times":    traces.Ladder("h", 14, 8, 3),
		"one service registered 20,000 times": traces.SameService("h", 20_000),
		"80,000 services":                     traces.Services("h", 80_000),
		"60,000 nested scopes":                traces.Nested("h", 60_000),
		"100,000 singletons":                  traces.Singletons("h", 100_000),
		"one given 5,000":                     traces.Composite("h", 5_000),
		"18 declared layers of three":         traces.Declared("h", 18, 3, false),
		"200 declared layers of three":        traces.Declared("h", 200, 3, false),
		"400 declared layers of three":        traces.Declared("h", 400, 3, false),
		"30 transients in circles":            traces.Declared("h", 32, 1, true),
		"a declared chain of 5,000":           traces.Declared("h", 5_000, 1, false),
		"a declared chain of 300":             traces.Declared("h", 300, 1, false),
		"40,000 wait for one that is late":    traces.Wide("h", 40_000, true),
	} {
		t.Run(name, func(t *testing.T) {
			r, err := engine.Analyse(t.Context(), strings.NewReader(text), reader.Options{}, rules.Default())
			require.NoError(t, err)
			require.NoError(t, r.Streams[0].Health.Balance())
			if b := r.Streams[0].Broken; b != nil {
				t.Fatal(b, b.Stack)
			}
		})
	}
}

// TestWorkGrowsWithTheTrace counts the steps of shapes that ask the same of the same instances again and again: four times the lines take at
// most five times the work. That loops count their steps is what TestWalksAreMetered looks at.
func TestWorkGrowsWithTheTrace(t *testing.T) {
	for name, shape := range map[string]func(n int) string{
		"kept by many and used in another scope": func(n int) string { return traces.Sibling("h", n) },
		"kept by many and captive":               func(n int) string { return traces.Captive("h", n) },
		"an instance of the root in many scopes": func(n int) string { return traces.AtOnce("h", n) },
		"a consumer of many":                     func(n int) string { return traces.Wide("h", n, false) },
		"a consumer before what it was given":    func(n int) string { return traces.Wide("h", n, true) },
		"one container is reset":                 func(n int) string { return traces.Resets("h", n, true) },
		"many containers are reset":              func(n int) string { return traces.Resets("h", n, false) },
		"a chain":                                func(n int) string { return traces.Chain("h", n) },
		"transients while all scopes are open":   func(n int) string { return traces.Piles("h", n, false) },
		"transients beside a leased one":         func(n int) string { return traces.Piles("h", n, true) },
	} {
		t.Run(name, func(t *testing.T) {
			work := func(n int) float64 {
				s := through(t, shape(n))
				require.Nil(t, s.Broken())
				s.Result()
				return float64(s.Work())
			}
			few, many := work(2_000), work(8_000)
			assert.Less(t, many/few, 5.0, "%.0f steps, %.0f for four times the lines", few, many)
		})
	}
}

// TestChainsTooLong checks that a chain which is too long to be followed is reported as that, and as nothing else.
func TestChainsTooLong(t *testing.T) {
	short, long := through(t, traces.Chain("h", 300)).Result(), through(t, traces.Chain("h", 5_000)).Result()
	assert.Equal(t, []string{"captive/scoped", "captive/transient"}, ruleIDs(short))
	assert.EqualValues(t, 0, short.Streams[0].Health.Abandoned)
	assert.Equal(t, []string{"captive/transient"}, ruleIDs(long))
	assert.NotZero(t, long.Streams[0].Health.Abandoned)
	assert.False(t, long.Streams[0].Health.Whole())
}

func ruleIDs(r *engine.Result) (ids []string) {
	for _, f := range r.Findings {
		ids = append(ids, f.Rule)
	}
	slices.Sort(ids)
	return slices.Compact(ids)
}

// through puts a whole trace through one stream.
func through(t *testing.T, text string) *engine.Analysis {
	t.Helper()
	s := engine.NewStream(rules.Default(), nil)
	in := reader.New(strings.NewReader(text), reader.Options{})
	for {
		line, err := in.Next()
		if errors.Is(err, io.EOF) {
			s.Finish()
			return s
		}
		require.NoError(t, err)
		s.Put(line)
	}
}

// TestFewAreRemembered has the service's smallest memory for what has ended.
func TestFewAreRemembered(t *testing.T) {
	s := engine.NewStream(rules.Default(), nil)
	s.Remember(512)
	in := reader.New(strings.NewReader(traces.OneScope("h", 5000)), reader.Options{})
	for {
		line, err := in.Next()
		if err != nil {
			break
		}
		s.Put(line)
	}
	s.Finish()
	require.Nil(t, s.Broken())
	assert.EqualValues(t, 5000, s.Result().Streams[0].Figures.Instances)
}

// TestNamesAreBounded checks that names which never repeat cost what the bounds allow, and that health counts it.
func TestNamesAreBounded(t *testing.T) {
	for name, text := range map[string]string{
		"scopes, entry points and failed services": traces.Names("h", 20_000, 4000),
		"lines that wait":                          traces.Held("h", 40_000, 4000),
	} {
		t.Run(name, func(t *testing.T) {
			s := engine.NewStream(rules.Default(), nil)
			in := reader.New(strings.NewReader(text), reader.Options{})
			before := heap()
			for {
				line, err := in.Next()
				if err != nil {
					break
				}
				s.Put(line)
			}
			assert.Less(t, heap()-before, int64(120<<20))
			s.Finish()
			health := s.Health()
			require.NoError(t, health.Balance())
			assert.False(t, health.Whole())
			require.Nil(t, s.Broken())
		})
	}
}

func heap() int64 {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return int64(m.HeapAlloc)
}

// TestRandomTraces analyses traces in which anything may follow anything.
func TestRandomTraces(t *testing.T) {
	for seed := range uint64(400) {
		random(t, seed, 400)
	}
}

// FuzzRandomTraces goes on where TestRandomTraces ends.
func FuzzRandomTraces(f *testing.F) {
	f.Add(uint64(1), uint16(400))
	f.Fuzz(func(t *testing.T, seed uint64, lines uint16) { random(t, seed, int(lines)%4000) })
}

// mostWork is what one line of a random trace may take: a walk is bounded by some thousands of instances.
const mostWork = 200_000

// random analyses one random trace: nothing breaks, lines add up, and no line takes more work than a constant.
func random(t *testing.T, seed uint64, lines int) {
	t.Helper()
	s := engine.NewStream(rules.Default(), nil)
	in := reader.New(strings.NewReader(traces.Random("h", seed, lines)), reader.Options{})
	for {
		line, err := in.Next()
		if err != nil {
			break
		}
		s.Put(line)
	}
	s.Finish()
	health := s.Result().Streams[0].Health
	require.NoError(t, health.Balance())
	if b := s.Broken(); b != nil {
		t.Fatalf("seed %d: %v\n%s", seed, b, b.Stack)
	}
	require.Less(t, s.MostWork(), int64(mostWork), "seed %d", seed)
}
