package derive_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
)

func study(t *testing.T, text string) []engine.Studied {
	t.Helper()
	list, err := engine.Study(t.Context(), strings.NewReader(text), reader.Options{}, rules.Default())
	require.NoError(t, err)
	for _, s := range list {
		require.NoError(t, s.Result.Streams[0].Health.Balance())
		require.Zero(t, s.Result.Streams[0].Health.Refused, "%v", s.Result.Streams[0].Health.Refusals)
	}
	return list
}

func hello(stream string) string {
	return fmt.Sprintf(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"%s","start":"2026-03-02T05:40:00Z"}`, stream)
}

// TestVerdicts holds what each way of building and sharing is called, and whether that is the lifetime in force.
func TestVerdicts(t *testing.T) {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("%s", hello("v-1"))
	for n, r := range []struct{ service, lifetime string }{
		{"SharedClock", "singleton"}, {"ScopedLedger", "scoped"}, {"FreshPlanner", "transient"}, {"OwnLog", "per-consumer"},
		{"RebuiltTides", "singleton"}, {"KeptPlanner", "transient"}, {"LoneRoster", "singleton"}, {"NeverBuilt", "scoped"},
		{"OnceEach", "scoped"}, {"Wandering", "scoped"}, {"PlainThing", ""},
	} {
		say(`{"ev":"register","t":1,"reg":%d,"service":"%s","lifetime":"%s"}`, n+1, r.service, r.lifetime)
	}
	inst := 0
	make := func(reg, scope int, more string) int {
		inst++
		say(`{"ev":"make","t":%d,"inst":%d,"reg":%d,"scope":%d%s}`, 10*inst, inst, reg, scope, more)
		return inst
	}
	clock, tides, kept, lone := make(1, 0, ""), 0, make(6, 0, ""), make(7, 0, "")
	_ = lone
	for s := 1; s <= 3; s++ {
		say(`{"ev":"open","t":%d,"scope":%d,"name":"GET /berths"}`, 10*inst+1, s)
		ledger := make(2, s, "")
		for range 2 {
			fresh := make(3, s, fmt.Sprintf(`,"with":[%d,%d]`, clock, ledger))
			say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"entry":"GET /berths"}`, 10*inst+2, fresh, s)
		}
		log := make(4, s, fmt.Sprintf(`,"module":"m%d","owner":0`, s))
		_ = log
		tides = make(5, s, "")
		say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"entry":"GET /berths"}`, 10*inst+3, tides, s)
		say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"to":%d}`, 10*inst+4, tides, s, ledger)
		say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"to":%d}`, 10*inst+4, kept, s, ledger)
		once := make(9, s, "")
		say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"entry":"GET /berths"}`, 10*inst+5, once, s)
		say(`{"ev":"give","t":%d,"inst":%d,"scope":%d,"entry":"GET /berths"}`, 10*inst+5, clock, s)
		make(11, s, "")
	}
	// One that goes on into a scope beside its own.
	say(`{"ev":"open","t":8000,"scope":4,"name":"GET /pilots"}`)
	say(`{"ev":"open","t":8000,"scope":5,"name":"GET /pilots"}`)
	a := make(10, 4, "")
	make(10, 5, "")
	say(`{"ev":"give","t":8001,"inst":%d,"scope":4,"entry":"GET /pilots"}`, a)
	say(`{"ev":"give","t":8002,"inst":%d,"scope":5,"entry":"GET /pilots"}`, a)
	for s := 5; s > 0; s-- {
		say(`{"ev":"close","t":9000,"scope":%d}`, s)
	}
	say(`{"ev":"bye","t":9001}`)
	yes, no := true, false
	want := []struct {
		service, as string
		agrees      *bool
	}{
		{"SharedClock", derive.BehavedContainer, &yes},
		{"ScopedLedger", derive.BehavedScope, &yes},
		{"FreshPlanner", derive.BehavedRequest, &yes},
		{"OwnLog", derive.BehavedConsumer, &yes},
		{"RebuiltTides", derive.BehavedScope, &no},
		{"KeptPlanner", derive.BehavedContainer, &no},
		{"LoneRoster", derive.BehavedUnknown, nil},
		{"NeverBuilt", derive.BehavedUnbuilt, nil},
		{"OnceEach", derive.BehavedOnce, &yes},
		{"Wandering", derive.BehavedMixed, &no},
		{"PlainThing", derive.BehavedOnce, nil},
	}
	text := b.String()
	for _, how := range []string{"one stream", "two streams together"} {
		in := text
		if how != "one stream" {
			in += strings.ReplaceAll(text, "v-1", "v-2")
		}
		states := []*derive.State{}
		for _, s := range study(t, in) {
			states = append(states, s.State)
		}
		merged := derive.Merge(states)
		require.Len(t, merged.Registrations, len(want), how)
		for n, w := range want {
			r := merged.Registrations[n]
			assert.Equal(t, w.service, r.Service, how)
			assert.Equal(t, w.as, r.Verdict.As, "%s: %s: %s", how, w.service, r.Verdict.Why)
			assert.Equal(t, w.agrees, r.Verdict.Agrees, "%s: %s", how, w.service)
			assert.NotEmpty(t, r.Verdict.Why)
		}
		assert.Equal(t, int64(len(states)*6), merged.Registrations[2].Made)
		assert.Equal(t, int64(len(states)*5), merged.Scopes)
		// The merged buckets hold what the streams' hold.
		for _, series := range merged.Buckets.Regs {
			sum := int64(0)
			for _, v := range series.Made {
				sum += v
			}
			assert.Equal(t, merged.Registrations[series.Reg].Made, sum, how)
		}
	}
}

// TestChunks checks that what is packed comes back the same, and that a chunk's description never hides a row.
func TestChunks(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	rows := []derive.Scope{}
	for n := range derive.ChunkRows {
		opened := random.Int64N(1 << 50)
		row := derive.Scope{
			ID: random.Uint64N(1 << 53), Name: fmt.Sprintf("GET /%d", random.IntN(300)), Kind: "request", In: random.Uint64N(9), Opened: opened,
			Closed: opened + random.Int64N(1<<40) - 50, Open: n%7 == 0, Line: random.Int64N(1 << 40), LastLine: random.Int64N(1 << 40),
			Made: random.Int64N(1 << 30), Uses: random.Int64N(1 << 30), BuiltNS: random.Int64N(1 << 40), Findings: random.Int64N(3),
		}
		if n%3 == 0 {
			row.Trace = fmt.Sprintf("%016x%016x", random.Uint64(), random.Uint64())
		}
		rows = append(rows, row)
	}
	c := derive.Pack(4, rows)
	back, err := derive.Unpack(c.Body)
	require.NoError(t, err)
	require.Equal(t, rows, back)
	assert.Nil(t, c.Info.Names, "too many to list")
	holds := 0
	for _, r := range rows {
		assert.True(t, r.Trace == "" || c.Info.MayHold(r.Trace))
		assert.True(t, r.ID >= c.Info.FirstID && r.ID <= c.Info.LastID && r.Opened >= c.Info.First && r.Closed <= c.Info.Last)
		if c.Info.MayHold(fmt.Sprint("another", r.ID)) {
			holds++
		}
	}
	assert.Less(t, holds, derive.ChunkRows/10, "a filter that lets most through is none")
}

// FuzzUnpack checks that a damaged chunk is an error and no panic, whatever its length field holds.
func FuzzUnpack(f *testing.F) {
	f.Add(derive.Pack(0, []derive.Scope{{ID: 1, Name: "GET /tides", Closed: 5, Trace: "ab"}, {ID: 2, Open: true}}).Body)
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, 0x0f})
	f.Fuzz(func(t *testing.T, body []byte) {
		rows, err := derive.Unpack(body)
		if err == nil && len(rows) > 0 {
			back, err := derive.Unpack(derive.Pack(0, rows).Body)
			require.NoError(t, err)
			require.Len(t, back, len(rows))
		}
	})
}

// TestMost checks that what is alive for a moment within a step is counted in it, also when steps grow wider and when the streams
// of a recording are put together, by an independent count.
func TestMost(t *testing.T) {
	const many, width = 19, 1 << 20
	trace := func(stream string, last int64) string {
		var b strings.Builder
		fmt.Fprintln(&b, hello(stream))
		fmt.Fprintln(&b, `{"ev":"register","t":1,"reg":1,"service":"BerthLedger","lifetime":"transient"}`)
		fmt.Fprintln(&b, `{"ev":"make","t":2,"inst":100,"scope":0,"reg":1}`)
		for n := range many { // all at once, in the third step
			fmt.Fprintf(&b, `{"ev":"make","t":%d,"inst":%d,"scope":0,"reg":1}`+"\n", 2*width+n, n+1)
		}
		for n := range many {
			fmt.Fprintf(&b, `{"ev":"dispose","t":%d,"inst":%d}`+"\n", 2*width+50+n, n+1)
		}
		fmt.Fprintf(&b, `{"ev":"open","t":%d,"scope":1}`+"\n", last)
		return b.String()
	}
	for _, one := range []struct {
		last int64
		want []int64 // of the first steps
	}{{5 * width, []int64{1, 1, many + 1, 1, 1, 1}}, {100 * width, []int64{1, many + 1, 1}}} {
		s := study(t, trace("m-1", one.last))[0]
		series := s.State.Buckets.Regs[0]
		assert.Equal(t, one.want, series.Most[:len(one.want)])
		assert.Equal(t, int64(1), series.Made[0])
		two := derive.Merge([]*derive.State{s.State, study(t, trace("m-2", 3*width))[0].State})
		most := two.Buckets.Regs[0].Most
		assert.EqualValues(t, 2*(many+1), slices.Max(most), "of two processes")
		assert.EqualValues(t, 2, most[len(most)-1], "one each is alive at the end")
	}
}
