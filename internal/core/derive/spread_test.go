package derive_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	"keenlantern.example/internal/core/derive"
)

// TestSpread sets variances beside those by the definition: of figures that lie close to each other far from 0, with zeros, and
// merged from parts.
func TestSpread(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, base := range []float64{0, 3, 1e9, 1e12} {
		for _, zeros := range []int{0, 1, 700} {
			var figures []float64
			var parts [3]derive.Spread
			for n := range 1000 {
				x := base + float64(r.IntN(16))
				figures = append(figures, x)
				parts[n*len(parts)/1000].Add(x)
			}
			var whole derive.Spread
			for _, p := range parts {
				whole.Merge(p)
			}
			figures = append(figures, make([]float64, zeros)...)
			mean, sum := 0.0, 0.0
			for _, x := range figures {
				mean += x / float64(len(figures))
			}
			for _, x := range figures {
				sum += (x - mean) * (x - mean)
			}
			want := sum / float64(len(figures)-1)
			assert.InEpsilon(t, want, whole.Variance(int64(len(figures))), 0.02, "base %g, %d zeros", base, zeros)
		}
	}
	assert.True(t, math.IsNaN(new(derive.Spread).Variance(1)))
	unknown := derive.Unknown
	unknown.Merge(derive.Spread{})
	assert.True(t, math.IsNaN(unknown.Variance(10)))
	var none derive.Spread
	assert.Zero(t, none.Variance(10))
}
