package derive

// buckets is how many intervals of time there are; when time has outgrown them, each two become one.
const buckets = 64

// firstShift is the width of a stretch at a stream's start, as a power of two of ns: about a millisecond.
const firstShift = 20

type count [buckets]int64

func (c *count) halve() {
	for n := range buckets / 2 {
		c[n] = c[2*n] + c[2*n+1]
	}
	clear(c[buckets/2:])
}

// widen makes one of each two, which is the greater.
func (c *count) widen() {
	for n := range buckets / 2 {
		c[n] = max(c[2*n], c[2*n+1])
	}
	clear(c[buckets/2:])
}

// series is one registration's, in time. Most is how many were alive at once when one was made, 0 where none was.
type series struct{ made, ended, own, most count }

// filled returns the most that were alive at once in each bucket: those that were when it began, or more.
func (s *series) filled(n int) []int64 {
	list := s.most.used(n)
	alive := int64(0)
	for k := range list {
		list[k] = max(list[k], alive)
		alive += s.made[k] - s.ended[k]
	}
	return list
}

// at returns the bucket of a time, making room for it first.
func (t *Tracker) at(ns int64) int {
	if ns < 0 {
		return 0
	}
	for ns>>t.shift >= buckets {
		t.shift++
		t.opened.halve()
		t.closed.halve()
		for _, s := range t.series {
			s.made.halve()
			s.ended.halve()
			s.own.halve()
			s.most.widen()
		}
	}
	return int(ns >> t.shift)
}

// used returns the buckets up to the latest time.
func (c *count) used(n int) []int64 { return append([]int64{}, c[:n]...) }
