package freeze_test

import (
	"fmt"
	"math"
	"math/rand" // that of testing/quick
	"reflect"
	"testing"
	"testing/quick"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/freeze"
)

type number uint16

type small struct {
	A, B int8
	On   bool
}

// every has a field of every kind that can be packed.
type every struct {
	Bool    bool
	Int     int
	Int8    int8
	Int16   int16
	Int32   int32
	Int64   int64
	Uint    uint
	Uint8   uint8
	Uint16  number
	Uint32  uint32
	Uint64  uint64
	Float   float64
	Text    string
	Few     [3]uint32
	Many    [40]int16
	Structs [20]small
	Bytes   []byte
	Texts   []string
	List    []small
	Lists   [][]string
	Pointer *small
	Points  []*small
	Map     map[string]small
	Maps    map[int64]map[bool]*small
	One     struct{ Only string }
	None    struct{}
}

// TestRoundTrip packs random values of every kind, and unpacks them into values that are not zero.
func TestRoundTrip(t *testing.T) {
	at := time.Date(2026, 5, 1, 4, 30, 0, 7, time.UTC)
	type root struct {
		every
		When, Never time.Time
		Any         []any
		in          small
		Call        func()
		Kept        int `freeze:"-"`
	}
	value := reflect.TypeFor[every]()
	random := rand.New(rand.NewSource(3))
	for size := range 60 {
		made, ok := quick.Value(value, random)
		require.True(t, ok)
		from := root{every: made.Interface().(every), When: at, in: small{A: 4, On: true}, Any: []any{nil, small{A: 1}, &small{B: 2}, number(7), "text"}, Kept: 1}
		if size == 0 {
			from.every = every{}
		}
		set := freeze.Set{Roots: []any{&from}, Types: []any{small{}, &small{}, number(0), ""}}
		packed, err := set.Freeze()
		require.NoError(t, err)

		filled, ok := quick.Value(value, random)
		require.True(t, ok)
		to := root{every: filled.Interface().(every), When: at.Add(1), Never: at, Any: []any{1}, Kept: 5}
		into := freeze.Set{Roots: []any{&to}, Types: set.Types}
		require.NoError(t, into.Thaw(packed))
		assert.Equal(t, 5, to.Kept, "what is not packed stays")
		to.Kept = from.Kept
		require.Equal(t, from, to)

		for n := 0; n < len(packed); n += 1 + len(packed)/40 {
			require.Error(t, into.Thaw(packed[:n]))
			bad := append([]byte{}, packed...)
			bad[random.Intn(len(bad))] = byte(random.Uint32())
			_ = into.Thaw(bad) // an error or not, but no panic
		}
	}
}

// FuzzThaw unpacks anything: that is an error, or something that comes back the same when it is packed again.
func FuzzThaw(f *testing.F) {
	type node struct {
		every
		When time.Time
		Any  any
		Next *node
	}
	set := func(n *node) *freeze.Set { return &freeze.Set{Roots: []any{n}, Types: []any{small{}, 0, ""}} }
	random := rand.New(rand.NewSource(1))
	for range 5 {
		made, ok := quick.Value(reflect.TypeFor[every](), random)
		require.True(f, ok)
		n := &node{every: made.Interface().(every), When: time.Unix(7, 0), Any: small{A: 1}, Next: &node{Any: "text"}}
		n.Next.Next = n
		packed, err := set(n).Freeze()
		require.NoError(f, err)
		f.Add(packed)
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		var one, again node
		if set(&one).Thaw(packed) != nil {
			return
		}
		whole, err := set(&one).Freeze()
		require.NoError(t, err)
		require.NoError(t, set(&again).Thaw(whole))
		for _, root := range []*node{&one, &again} {
			seen := map[*node]bool{}
			for n := root; n != nil && !seen[n]; n = n.Next {
				seen[n] = true
				n.Float = 0 // not a number is not even equal to itself
			}
		}
		require.True(t, reflect.DeepEqual(one, again))
	})
}

// TestWeb checks that what is shared stays shared, in circles too, and that what is fixed is not copied.
func TestWeb(t *testing.T) {
	type node struct {
		Next  *node
		Fixed *small
		Inner *small
		First small // begins where nothing else of its type does
	}
	fixed := &small{A: 9}
	a, b := &node{Fixed: fixed}, &node{Inner: &small{A: 3}}
	a.Next, b.Next, a.Inner = b, a, b.Inner
	roots := []*node{a, b, a}
	packed, err := (&freeze.Set{Roots: []any{&roots}, Fixed: []any{fixed}}).Freeze()
	require.NoError(t, err)
	var again []*node
	require.NoError(t, (&freeze.Set{Roots: []any{&again}, Fixed: []any{fixed}}).Thaw(packed))
	require.Len(t, again, 3)
	assert.Same(t, again[0], again[2])
	assert.Same(t, again[0], again[1].Next)
	assert.Same(t, again[1], again[0].Next)
	assert.Same(t, again[0].Inner, again[1].Inner)
	assert.NotSame(t, b.Inner, again[1].Inner)
	assert.Same(t, fixed, again[0].Fixed)
}

// TestWhatCannotBePacked checks each kind that Set refuses.
func TestWhatCannotBePacked(t *testing.T) {
	var (
		word  uintptr
		one   any = 1
		whole struct{ in small }
		outer = struct {
			whole *struct{ in small }
			in    *small
		}{&whole, &whole.in}
	)
	for name, c := range map[string]struct {
		set  freeze.Set
		want string
	}{
		"no pointer":                {freeze.Set{Roots: []any{1}}, "int is no pointer"},
		"given twice":               {freeze.Set{Roots: []any{&word}, Fixed: []any{&word}}, "*uintptr is given twice"},
		"a kind that has no way":    {freeze.Set{Roots: []any{ptr(uintptr(1))}}, "no way to pack a uintptr"},
		"not among the types":       {freeze.Set{Roots: []any{&one}}, "a int is in a interface {}, and is not among the types"},
		"neither is what it points": {freeze.Set{Roots: []any{ptr[fmt.Stringer](time.Second)}}, "a time.Duration is in a fmt.Stringer"},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := c.set.Freeze()
			require.ErrorContains(t, err, c.want)
		})
	}
	inside, err := (&freeze.Set{Roots: []any{&outer}}).Inside()
	require.NoError(t, err)
	assert.Equal(t, []string{"a freeze_test.small in a struct { in freeze_test.small }"}, inside)
}

// TestNumbers checks that every width of number comes back.
func TestNumbers(t *testing.T) {
	var list []int64
	for shift := range 64 {
		list = append(list, 1<<shift, -1<<shift, 1<<shift-1)
	}
	floats := []float64{0, math.Copysign(0, -1), math.Inf(1), math.SmallestNonzeroFloat64}
	packed, err := (&freeze.Set{Roots: []any{&list, &floats}}).Freeze()
	require.NoError(t, err)
	var (
		again       []int64
		floatsAgain []float64
	)
	require.NoError(t, (&freeze.Set{Roots: []any{&again, &floatsAgain}}).Thaw(packed))
	assert.Equal(t, list, again)
	require.Len(t, floatsAgain, 4)
	for n, f := range floats {
		assert.Equal(t, math.Float64bits(f), math.Float64bits(floatsAgain[n]))
	}
}

func ptr[T any](v T) *T { return &v }
