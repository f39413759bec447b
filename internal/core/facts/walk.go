package facts

import "keenlantern.example/internal/core/ledger"

// walk visits each instance at most once, and so many in all.
type walk struct {
	world *ledger.World
	seen  map[*ledger.Instance]struct{}
	few   [8]*ledger.Instance // the first ones: most walks are short
	n     int
	most  int
}

// start begins anew, to visit at most so many instances.
func (k *walk) start(w *ledger.World, most int) {
	clear(k.seen)
	k.world, k.most, k.n = w, most, 0
}

// visit tells whether i is met for the first time and may be looked at, and counts a step of work.
func (k *walk) visit(i *ledger.Instance) bool {
	for n := range min(k.n, len(k.few)) {
		if k.few[n] == i {
			return false
		}
	}
	if k.n >= len(k.few) {
		if _, seen := k.seen[i]; seen || k.n >= k.most {
			return false
		}
		if k.seen == nil {
			k.seen = map[*ledger.Instance]struct{}{}
		}
		k.seen[i] = struct{}{}
	} else {
		k.few[k.n] = i
	}
	k.n++
	k.world.Step(1)
	return true
}
