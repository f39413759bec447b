package facts

import "keenlantern.example/internal/core/ledger"

// walk visits each instance at most once, and so many in all. Where another one has been started meanwhile, it has ended.
type walk struct {
	world   *ledger.World
	number  uint64
	n, most int
}

// start begins anew, to visit at most so many instances.
func (k *walk) start(w *ledger.World, most int) {
	k.world, k.number, k.n, k.most = w, w.NewWalk(), 0, most
}

// visit tells whether i is met for the first time and may be looked at, and counts a step of work.
func (k *walk) visit(i *ledger.Instance) bool {
	if k.n >= k.most || !i.Meet(k.number) {
		return false
	}
	k.n++
	k.world.Step(1)
	return true
}
