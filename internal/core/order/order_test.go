package order_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/order"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/record/event"
)

// through puts lines into an order and returns the order in which they came out.
func through(t *testing.T, o *order.Order, lines ...string) string {
	t.Helper()
	var p reader.Parser
	out := []string{}
	for n, line := range lines {
		got := p.Parse([]byte(line))
		require.Empty(t, got.Refused, line)
		got.Event.Line = int64(n + 1)
		o.Put(got.Event, func(ev *event.Event) { out = append(out, fmt.Sprint(ev.Line)) })
	}
	return strings.Join(out, " ")
}

func TestLateDefinitions(t *testing.T) {
	const (
		open    = `{"ev":"open","t":1,"scope":1}`
		makes   = `{"ev":"make","t":2,"inst":1,"scope":1}`
		makes2  = `{"ev":"make","t":2,"inst":2,"scope":1,"with":[1]}`
		use     = `{"ev":"use","t":3,"inst":1,"scope":1,"by":2}`
		give    = `{"ev":"give","t":3,"inst":1,"scope":1,"to":2}`
		dispose = `{"ev":"dispose","t":4,"inst":1}`
		closes  = `{"ev":"close","t":5,"scope":1}`
		box     = `{"ev":"container","t":0,"container":1,"scope":7}`
		closes7 = `{"ev":"close","t":5,"scope":7}`
		forget  = `{"ev":"forget","t":5,"container":1}`
		root    = `{"ev":"close","t":5,"scope":0}`
	)
	tests := []struct {
		name, want string
		lines      []string
		held       int64
	}{
		{"in order", "1 2 3 4 5 6", []string{open, makes, makes2, use, dispose, closes}, 0},
		{"a use before its make", "1 3 2 4", []string{open, `{"ev":"use","t":3,"inst":1,"scope":1}`, makes, closes}, 0},
		{"a use that waits for three", "2 3 4 1", []string{use, makes, open, makes2}, 0},
		{"one of two behind a make, the other still waits for its scope", "3 4 1", []string{dispose, give, makes2, makes}, 1},
		{"a make never waits", "1 2", []string{makes2, makes}, 0},
		{"a container brings its root", "2 1 3", []string{closes7, box, forget}, 0},
		{"the first root is known", "1", []string{root}, 0},
		{"a registration behind its make", "3 1 2", []string{`{"ev":"make","t":2,"inst":1,"reg":1,"scope":0}`, `{"ev":"use","t":3,"inst":1}`, `{"ev":"register","t":1,"reg":1,"service":"S"}`}, 0},
		{"what a registration wraps behind its make", "1 3 2", []string{`{"ev":"register","t":1,"reg":2,"service":"S","wraps":1}`, `{"ev":"make","t":2,"inst":1,"reg":2,"scope":0}`, `{"ev":"register","t":1,"reg":1,"service":"S"}`}, 0},
		{"two that wrap each other", "1 3 2", []string{`{"ev":"register","t":1,"reg":2,"service":"S","wraps":1}`, `{"ev":"make","t":2,"inst":1,"reg":2,"scope":0}`, `{"ev":"register","t":1,"reg":1,"service":"S","wraps":2}`}, 0},
		{"a registration that stays away", "1 2", []string{`{"ev":"make","t":2,"inst":1,"reg":1,"scope":0}`, `{"ev":"use","t":1000000003,"inst":1}`}, 0},
		{"a registration that has not come by the end", "1 2", []string{`{"ev":"make","t":2,"inst":1,"reg":1,"scope":0}`, `{"ev":"bye","t":3}`}, 0},
		{"what never comes", "1", []string{open, use, closes7}, 2},
	}
	for _, test := range tests {
		t.Run(test.name, func(t *testing.T) {
			o := order.New()
			got := through(t, o, test.lines...)
			assert.Equal(t, test.want, got)
			assert.Equal(t, test.held, o.Held())
			o.GiveUp()
			assert.Equal(t, test.held, o.Unresolved())
			assert.Zero(t, o.Held())
		})
	}
}

func TestGivesUpAfterTheWindow(t *testing.T) {
	o := order.New()
	used := 0
	count := func(*event.Event) { used++ }
	o.Put(&event.Event{Kind: event.Use, Inst: 5, Has: event.Of(event.FInst)}, count)
	for n := range order.Window {
		o.Put(&event.Event{Kind: event.Gap, T: int64(n)}, count)
	}
	assert.Equal(t, int64(1), o.Held(), "the window is not over yet")
	o.Put(&event.Event{Kind: event.Gap}, count)
	o.Put(&event.Event{Kind: event.Gap}, count)
	assert.Zero(t, o.Held())
	assert.Equal(t, int64(1), o.Unresolved())
	o.Put(&event.Event{Kind: event.Make, Inst: 5}, count)
	assert.Equal(t, order.Window+3, used, "what was given up stays given up")
}

// TestIDsWithHoles checks that a recorder which counts in threes costs no more memory than one that counts in ones, and
// that lines about ids in the holes come through in the end rather than never.
func TestIDsWithHoles(t *testing.T) {
	o := order.New()
	made := 0
	for n := range 10 * order.Window {
		o.Put(&event.Event{Kind: event.Make, Inst: event.InstID(3*n + 1)}, func(*event.Event) { made++ })
	}
	assert.Equal(t, 10*order.Window, made)
	got := 0
	for _, id := range []event.InstID{1, 4, 3*10*order.Window - 2} {
		o.Put(&event.Event{Kind: event.Use, Inst: id}, func(*event.Event) { got++ })
	}
	assert.Equal(t, 3, got)
}
