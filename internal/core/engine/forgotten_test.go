package engine

import (
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	random "keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/load"
)

// TestForgottenIsPointedToByNobody checks that nothing points to an instance whose memory is to be used again: with hardly
// any instance remembered, all that can be reached from an analysis is walked through again and again.
func TestForgottenIsPointedToByNobody(t *testing.T) {
	traces := storedTraces(t)
	for _, shape := range load.Shapes {
		for _, open := range []int{1, 7} {
			w := shape.New("s", open)
			traces[fmt.Sprintf("%s-%d", shape.Name, open)] = string(w.Requests(12)) + string(w.End())
		}
	}
	for seed := range uint64(25) {
		traces[fmt.Sprintf("random %d", seed)] = random.Random("s", seed, 300)
	}
	forgotten := 0
	for name, text := range traces {
		s := NewLive(rules.Default(), nil)
		s.Remember(0)
		r := reader.New(strings.NewReader(text), reader.Options{})
		every := max(1, strings.Count(text, "\n")/8)
		for n := 1; ; n++ {
			line, err := r.Next()
			if err == io.EOF {
				break
			}
			require.NoError(t, err)
			s.Put(line)
			if n%every == 0 {
				require.Empty(t, pointedTo(s), "%s, line %d", name, line.Number)
			}
		}
		forgotten += int(s.world.InstancesMade) - s.world.Alive()
	}
	require.Greater(t, forgotten, 2000)
}

// pointedTo returns the way to an instance that has been forgotten, or to one that code outside the ledger retains and
// does not hold; "" if there is none.
func pointedTo(s *Analysis) string {
	w := &pointers{seen: map[pointed]bool{}}
	w.walk("world", reflect.ValueOf(s.world), false)
	w.walk("found", reflect.ValueOf(s.found), true)
	w.walk("tracker", reflect.ValueOf(s.tracker), true)
	w.walk("facts", reflect.ValueOf(s.facts), true)
	for _, one := range s.all {
		w.walk(fmt.Sprintf("%T", one), reflect.ValueOf(one), true)
	}
	return w.found
}

type pointed struct {
	at uintptr
	of reflect.Type
}

type pointers struct {
	seen  map[pointed]bool
	found string
}

// ledgers are what the ledger itself consists of.
var ledgers = []reflect.Type{
	reflect.TypeFor[ledger.World](), reflect.TypeFor[ledger.Instance](), reflect.TypeFor[ledger.Scope](),
	reflect.TypeFor[ledger.Registration](), reflect.TypeFor[ledger.Container](),
}

// walk looks at all that v points to; outside is set if it is not the ledger that does.
func (w *pointers) walk(path string, v reflect.Value, outside bool) {
	if w.found != "" || !v.IsValid() {
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		if v.IsNil() {
			return
		}
		if v.Type() == reflect.TypeFor[*ledger.Instance]() {
			if v.Elem().FieldByName("MadeSeq").Int() == 0 || outside && v.Elem().FieldByName("holds").Int() == 0 {
				w.found = path
				return
			}
		}
		if at := (pointed{v.Pointer(), v.Type()}); !w.seen[at] {
			w.seen[at] = true
			w.walk(path, v.Elem(), outside && !slices.Contains(ledgers, v.Type().Elem()))
		}
	case reflect.Interface:
		w.walk(path, v.Elem(), outside)
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[ledger.Weak]() {
			return
		}
		for n := range v.NumField() {
			f := v.Type().Field(n)
			if f.Tag.Get("freeze") != "-" {
				w.walk(path+"."+f.Name, v.Field(n), outside || f.Name == "tags" || f.Name == "rare")
			}
		}
	case reflect.Slice, reflect.Array:
		for n := range v.Len() {
			w.walk(path, v.Index(n), outside)
		}
	case reflect.Map:
		for all := v.MapRange(); all.Next(); {
			w.walk(path+"(key)", all.Key(), outside)
			w.walk(path, all.Value(), outside)
		}
	}
}
