package join_test

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	random "keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/join"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

func events(t testing.TB, text string) (list []*event.Event) {
	r := reader.New(strings.NewReader(text), reader.Options{})
	for {
		line, err := r.Next()
		if err == io.EOF {
			return list
		}
		require.NoError(t, err)
		if line.Event != nil {
			list = append(list, line.Event.Clone())
		}
	}
}

// request is what one request of an office wrote; every fourth keeps nothing of its tides, and leaves its log undisposed where
// leak is true. Registrations come in another order each time, and one of them only now and then.
func request(n int, leak bool) string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"r%d","start":"2026-03-02T05:40:%02d.%03d000000Z","host":"quay","pid":%d}`, n, n/10%60, n%10*100, 1000+n)
	regs := []string{
		`{"ev":"register","t":1,"reg":%d,"service":"HarbourClock","lifetime":"singleton"}`,
		`{"ev":"register","t":1,"reg":%d,"service":"TideSource","lifetime":"scoped"}`,
		`{"ev":"register","t":1,"reg":%d,"service":"LogPage","lifetime":"scoped","disposable":true}`,
	}
	for k := range regs {
		at := (k + n) % 3
		say(regs[at], at+1)
	}
	if n%5 == 0 {
		say(`{"ev":"register","t":1,"reg":4,"service":"TideTable","lifetime":"transient"}`)
	}
	say(`{"ev":"open","t":10,"scope":1,"kind":"request","name":"GET /tides"}`)
	say(`{"ev":"make","t":20,"inst":1,"reg":1,"scope":1,"ns":2}`)
	say(`{"ev":"make","t":30,"inst":2,"reg":2,"scope":1,"with":[1],"ns":3}`)
	say(`{"ev":"make","t":40,"inst":3,"reg":3,"scope":1,"with":[2,1],"ns":4}`)
	if n%5 == 0 {
		say(`{"ev":"make","t":41,"inst":4,"reg":4,"scope":1,"with":[2],"ns":1}`)
	}
	say(`{"ev":"give","t":45,"inst":3,"scope":1,"entry":"GET /tides"}`)
	say(`{"ev":"use","t":50,"inst":2,"scope":1,"by":3,"ns":5}`)
	say(`{"ev":"use","t":51,"inst":1,"scope":1,"by":3,"ns":5}`)
	if !leak {
		say(`{"ev":"dispose","t":60,"inst":3,"scope":1}`)
	}
	say(`{"ev":"close","t":70,"scope":1}`)
	say(`{"ev":"bye","t":80}`)
	return b.String()
}

func joined(t testing.TB, texts ...string) string {
	s := join.New("joined-1")
	var out []byte
	emit := func(ev *event.Event) { out = event.AppendLine(out, ev) }
	for _, text := range texts {
		list := events(t, text)
		if s.Fits(list[0]) {
			_ = s.Put(list, emit)
		}
	}
	s.End("", emit)
	return string(out)
}

// TestOneStreamOfMany checks that what is found of a joined stream is what is wrong in its requests, and nothing that comes of
// joining them: their singletons are not two of one, and their containers do not leave anything behind.
func TestOneStreamOfMany(t *testing.T) {
	run := func(leak bool) (*engine.Result, string) {
		var texts []string
		for n := range 200 {
			texts = append(texts, request(n, leak && n%4 == 0))
		}
		text := joined(t, texts...)
		told, err := conform.Check(strings.NewReader(text))
		require.NoError(t, err)
		require.Empty(t, told.Problems)
		r, err := engine.Analyse(t.Context(), strings.NewReader(text), reader.Options{}, rules.Default())
		require.NoError(t, err)
		require.Len(t, r.Streams, 1)
		require.True(t, r.Streams[0].Health.Whole(), "%+v", r.Streams[0].Health)
		return r, text
	}
	sound, text := run(false)
	for _, f := range sound.Findings {
		assert.Fail(t, "a sound office has a finding", "%s: %s (%s)", f.Rule, f.Title, f.Why)
	}
	f := sound.Streams[0].Figures
	assert.EqualValues(t, 4, f.Registrations)
	assert.EqualValues(t, 200*3+40, f.Instances)
	assert.EqualValues(t, 200, f.Scopes)
	assert.Zero(t, f.Alive)
	assert.Equal(t, "streams of one request each", sound.Streams[0].Labels[join.Label])
	assert.Less(t, strings.Index(text, `"scope":2,`), strings.LastIndex(text, `"ev":"close"`))

	leaking, _ := run(true)
	require.Len(t, leaking.Findings, 1)
	assert.Equal(t, "disposal/leaked", leaking.Findings[0].Rule)
	assert.EqualValues(t, 50, leaking.Findings[0].Counts["instances"])
}

// TestWhatFits checks that other versions are not joined, and that a stream has a reason if it cannot be.
func TestWhatFits(t *testing.T) {
	s := join.New("joined-1")
	list := events(t, request(1, false))
	require.NoError(t, s.Put(list, func(*event.Event) {}))
	again := events(t, request(2, false))
	assert.True(t, s.Fits(again[0]))
	again[0].Version = "2"
	assert.False(t, s.Fits(again[0]))
	assert.ErrorContains(t, s.Put(list[1:], nil), "hello")
	long := append(list[:1:1], slices.Repeat(list[1:2], join.MaxLines)...)
	assert.ErrorContains(t, s.Put(long, nil), "lines")
	huge := events(t, strings.ReplaceAll(request(3, false), `"inst":3`, `"inst":9007199254740991`))
	assert.ErrorContains(t, s.Put(huge, nil), "ids above")
}

// TestHostile checks that rings of registrations end, and that for any short stream, the joined one can be read.
func TestHostile(t *testing.T) {
	ring := `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"ring","start":"2026-03-02T05:40:00Z"}` + "\n"
	for n := 1; n <= 300; n++ {
		ring += fmt.Sprintf(`{"ev":"register","t":1,"reg":%d,"service":"S%d","wraps":%d,"alias":%d,"proxy":%d}`+"\n", n, n, n%300+1, (n+7)%300+1, (n+31)%300+1)
	}
	texts := []string{ring}
	for seed := range uint64(60) {
		texts = append(texts, random.Random(fmt.Sprintf("s%d", seed), seed, 300))
	}
	out := joined(t, texts...)
	r := reader.New(bytes.NewReader([]byte(out)), reader.Options{})
	for {
		line, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		require.Empty(t, line.Refused, "%s", line.Text)
	}
	result, err := engine.Analyse(t.Context(), strings.NewReader(out), reader.Options{}, rules.Default())
	require.NoError(t, err)
	require.Nil(t, result.Streams[0].Broken)
}
