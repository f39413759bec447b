package nest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/core/nest"
)

// TestSpans holds who lies in whom, and that what ran side by side is taken out of the one around it once.
func TestSpans(t *testing.T) {
	var n nest.Nesting
	type told struct{ N, Outer, Depth, Own int }
	nested := func(makes ...[2]int64) (list []told) {
		n.Reset()
		for k, m := range makes {
			n.Add(m[0], m[1], int64(k))
		}
		for _, s := range n.Spans() {
			list = append(list, told{s.N, s.Outer, s.Depth, int(s.Own)})
		}
		return list
	}
	assert.Equal(t, []told{{2, -1, 0, 30}, {0, 0, 1, 50}, {1, 0, 1, 40}}, nested([2]int64{60, 50}, [2]int64{80, 40}, [2]int64{100, 100}), "side by side in one")
	assert.Equal(t, []told{{1, -1, 0, 0}, {0, 0, 1, 10}}, nested([2]int64{10, 10}, [2]int64{10, 10}), "the same time: the one noted first is inside")
	assert.Equal(t, []told{{2, -1, 0, 10}, {0, 0, 1, 0}, {1, 0, 1, 0}}, nested([2]int64{5, 0}, [2]int64{5, 0}, [2]int64{10, 10}), "what took no known time holds nothing")
	assert.Equal(t, []told{{0, -1, 0, 5}, {1, -1, 0, 5}}, nested([2]int64{5, 5}, [2]int64{12, 5}), "one after the other")
	assert.Equal(t, []told{{2, -1, 0, 2}, {1, 0, 1, 3}, {0, 1, 2, 5}}, nested([2]int64{6, 5}, [2]int64{8, 8}, [2]int64{10, 10}), "within and within")
	assert.Empty(t, nested())
}
