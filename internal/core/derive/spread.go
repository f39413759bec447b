package derive

import "math"

// Spread is how much a figure varies: how many there were, their mean, and the sum of the squares of their distances from it.
// Unlike a sum of squares it loses no precision where the mean is much larger than the distances.
type Spread struct {
	N    int64   `json:"n"`
	Mean float64 `json:"mean"`
	M2   float64 `json:"m2"`
}

// Unknown is the spread of figures of which only the sum is known.
var Unknown = Spread{M2: math.NaN()}

// Add adds one figure (B. P. Welford, Technometrics 4, 1962).
func (s *Spread) Add(x float64) {
	s.N++
	far := x - s.Mean
	s.Mean += far / float64(s.N)
	s.M2 += far * (x - s.Mean)
}

// Merge adds the figures of another spread (T. F. Chan, G. H. Golub, R. J. LeVeque, 1979).
func (s *Spread) Merge(o Spread) {
	n := s.N + o.N
	if n == 0 {
		s.M2 += o.M2
		return
	}
	far := o.Mean - s.Mean
	s.M2 += o.M2 + far*far*float64(s.N)*float64(o.N)/float64(n)
	s.Mean += far * float64(o.N) / float64(n)
	s.N = n
}

// Variance estimates the variance of one figure where there were n in all and those not added were 0; NaN for fewer than two.
func (s Spread) Variance(n int64) float64 {
	if n < 2 {
		return math.NaN()
	}
	s.Merge(Spread{N: max(0, n-s.N)})
	return max(0, s.M2) / float64(n-1)
}
