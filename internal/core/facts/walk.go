package facts

import "keenlantern.example/internal/core/ledger"

// walk visits each instance at most once, along a bounded number of keepings. Where another walk is started meanwhile, this one has ended.
type walk struct {
	world     *ledger.World
	number    uint64
	left      int // instances that may still be visited
	keepings  int // keepings that may still be followed
	abandoned bool
}

// start begins a walk that visits at most so many instances and follows at most maxFollowed keepings.
func (k *walk) start(w *ledger.World, most int) {
	*k = walk{world: w, number: w.NewWalk(), left: most, keepings: maxFollowed}
}

// visit reports whether i is new to the walk and within its bound, and counts a step of work.
func (k *walk) visit(i *ledger.Instance) bool {
	if k.left <= 0 {
		k.abandon()
		return false
	}
	if !i.Meet(k.number) {
		return false
	}
	k.left--
	k.world.Step(1)
	return true
}

// follow reports how many of n keepings of one instance may be followed, and counts them as work.
func (k *walk) follow(n int) int {
	if n > k.keepings {
		n = k.keepings
		k.abandon()
	}
	k.keepings -= n
	k.world.Step(n)
	return n
}

// abandon records that the walk is incomplete. The stream's health counts such walks.
func (k *walk) abandon() {
	if !k.abandoned {
		k.abandoned = true
		k.world.Abandoned++
	}
}
