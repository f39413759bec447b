package facts

import (
	"slices"

	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/record/event"
)

// The bounds of one event's search.
const (
	maxVisits   = 4096    // instances visited, upwards and downwards each
	maxFollowed = 65_536  // keepings followed, upwards and downwards each
	maxTries    = 100_000 // keepings followed to list ways one by one
	maxWays     = 64      // ways reported of one kept instance
	maxSteps    = 64      // instances shown of one way
)

// BelongsToScope reports whether i is something that a holder could outlive: a scoped instance, or an external one of a
// scope. A proxy looks its instance up at each call, so that keeping it keeps nothing.
func BelongsToScope(i *ledger.Instance) bool {
	if i.Home() == nil || i.Proxy() {
		return false
	}
	switch i.Class() {
	case ledger.ScopedClass:
		return true
	case ledger.ExternalClass:
		return i.Home() != i.Root()
	}
	return false
}

// Way is how a holder keeps an instance that it outlives, or could not have been built to keep.
type Way struct {
	Path     []*ledger.Instance // from the holder to the kept one, both included; of a long way, both ends
	Steps    int                // keepings on the way
	FromRoot bool               // the kept one's home is the root
}

// Holder and Kept are the ends of the way.
func (w *Way) Holder() *ledger.Instance { return w.Path[0] }
func (w *Way) Kept() *ledger.Instance   { return w.Path[len(w.Path)-1] }

// Keeping finds the ways on which instances of scopes are kept by what outlives them (captive/scoped in
// docs/findings.md). It sees changes before its readers do.
type Keeping struct {
	world *ledger.World

	up, down walk                                  `freeze:"-"`
	next     map[*ledger.Instance]*ledger.Instance `freeze:"-"` // the nearest keeper on a way to a holder
	queue    []*ledger.Instance                    `freeze:"-"`
	tries    int                                   `freeze:"-"`
	answer   notKept                               `freeze:"-"`

	explained [explanations]explanation `freeze:"-"`
}

// What is noted on instances.
var ripeBelowFlag = ledger.NewFlag()

// ripe reports whether d could be captive by now: its home has closed, or is the root.
func ripe(d *ledger.Instance) bool {
	return BelongsToScope(d) && (d.Home().Ended || d.Home() == d.Root())
}

// through reports whether what an instance keeps is inspected from above it: what belongs to a scope, or lives as long as its
// container, is judged by itself.
func through(i *ledger.Instance) bool { return !BelongsToScope(i) && !i.Class().Long() }

func ripeBelow(i *ledger.Instance) bool { return i.Flagged(ripeBelowFlag) }

// ripened notes above d that there is something below to be judged when a keeping is added further up. Each instance is
// noted once.
func (k *Keeping) ripened(d *ledger.Instance) {
	k.queue = append(k.queue[:0], d)
	for len(k.queue) > 0 {
		at := k.queue[len(k.queue)-1]
		k.queue = k.queue[:len(k.queue)-1]
		k.world.Step(1 + len(at.KeptBy))
		for _, keeper := range at.KeptBy {
			if h := keeper.Holder; through(h) && !ripeBelow(h) {
				h.SetFlag(ripeBelowFlag)
				k.queue = append(k.queue, h)
			}
		}
	}
}

// Ways calls tell for each path that a change reveals. A path may be reported again.
func (k *Keeping) Ways(c *ledger.Change, tell func(Way)) {
	k.tries = maxTries
	switch c.What {
	case ledger.ScopeClosed:
		k.judge(c.Scope.Homed, c.Scope, tell)
	case ledger.HomeKnown:
		k.judge([]*ledger.Instance{c.Inst}, c.Scope, tell)
	case ledger.Bound:
		k.bound(c.Holder, c.Inst, tell)
	}
}

// MayComplete reports whether a keeping of d may complete a way.
func MayComplete(d *ledger.Instance) bool { return ripeBelow(d) || ripe(d) }

// bound looks at what a new keeping of d by h completes.
func (k *Keeping) bound(h, d *ledger.Instance, tell func(Way)) {
	if !MayComplete(d) {
		return
	}
	if through(h) && !ripeBelow(h) {
		h.SetFlag(ripeBelowFlag)
		k.ripened(h)
	}
	if len(h.KeptBy) == 0 && through(h) && h.Class() == ledger.TransientClass && h.Home() == h.Root() && d.Home() == d.Root() {
		return // nothing outlives a transient that nothing keeps
	}
	byHome := map[*ledger.Scope][]*ledger.Instance{}
	var homes []*ledger.Scope
	k.down.start(k.world, maxVisits)
	k.down.visit(d)
	list := []*ledger.Instance{d}
	for n := 0; n < len(list); n++ {
		at := list[n]
		if ripe(at) {
			if byHome[at.Home()] == nil {
				homes = append(homes, at.Home())
			}
			byHome[at.Home()] = append(byHome[at.Home()], at)
		}
		if !through(at) || !ripeBelow(at) {
			continue
		}
		for e := range k.down.follow(len(at.Keeps)) {
			if below := at.Keeps[e].Kept; below != nil && (ripe(below) || ripeBelow(below)) && k.down.visit(below) {
				list = append(list, below)
			}
		}
	}
	for _, home := range homes {
		if k.leads(h, home) {
			k.judge(byHome[home], home, tell)
		}
	}
}

// leads reports whether h, or an instance that keeps it, outlives the given home. New ways since h keeps one more instance lead through h.
func (k *Keeping) leads(h *ledger.Instance, home *ledger.Scope) bool {
	k.up.start(k.world, maxVisits)
	k.up.visit(h)
	list := append(k.queue[:0], h)
	defer func() { k.queue = list }()
	for n := 0; n < len(list); n++ {
		at := list[n]
		r := roleOf(at, home, false)
		if r == holds || home.Root && roleOf(at, home, true) == holds {
			return true
		}
		if r == stops {
			continue
		}
		for _, keeper := range at.KeptBy[:k.up.follow(len(at.KeptBy))] {
			if k.up.visit(keeper.Holder) {
				list = append(list, keeper.Holder)
			}
		}
	}
	return k.up.abandoned
}

// what a keeper is for something whose home is given.
type role uint8

const (
	passed role = iota // it lives as long as its keeper: which is that?
	holds              // it outlives what it keeps by its own lifetime
	stops              // it belongs to a scope itself: its own finding carries what it keeps
)

func roleOf(h *ledger.Instance, home *ledger.Scope, fromRoot bool) role {
	transient := h.Class() == ledger.TransientClass
	outlasts := !fromRoot && h.Home().Outlasts(home)
	switch {
	case fromRoot && h.Class().Long(), outlasts && !transient:
		return holds
	case BelongsToScope(h), h.Class().Long():
		return stops // one that lives as long as a container elsewhere does not outlive it, nor lives by its keepers
	case outlasts && (len(h.KeptBy) == 0 || h.Proxy()):
		return holds // a transient of an outer scope that nothing keeps lives by its own home
	}
	return passed
}

// judge reports the paths to those of list that belong to a scope, whose home all of them share.
func (k *Keeping) judge(list []*ledger.Instance, home *ledger.Scope, tell func(Way)) {
	if !home.Root {
		k.ways(list, home, false, tell)
		return
	}
	// The root of one container may be a scope as any other for what another one built.
	var own, others []*ledger.Instance
	for _, d := range list {
		if d.Root() == home {
			own = append(own, d)
		} else {
			others = append(others, d)
		}
	}
	k.ways(own, home, true, tell)
	k.ways(others, home, false, tell)
}

func (k *Keeping) ways(list []*ledger.Instance, home *ledger.Scope, fromRoot bool, tell func(Way)) {
	// Upwards: everything that lives by what keeps it, each once; the holders at the ends.
	k.up.start(k.world, maxVisits+len(list))
	var reached, holders []*ledger.Instance
	for _, d := range list {
		if len(d.KeptBy) > 0 && ripe(d) && k.up.visit(d) {
			k.ripened(d)
			reached = append(reached, d)
		}
	}
	kept := len(reached)
	for n := 0; n < len(reached); n++ {
		at := reached[n]
		if n >= kept && at.Proxy() {
			continue
		}
		for _, keeper := range at.KeptBy[:k.up.follow(len(at.KeptBy))] {
			h := keeper.Holder
			r := roleOf(h, home, fromRoot)
			if r == stops || !k.up.visit(h) {
				continue
			}
			if r == holds {
				holders = append(holders, h)
			} else {
				reached = append(reached, h)
			}
		}
	}
	if len(holders) == 0 {
		return
	}
	// Downwards from the holders: which of these lead to one, and by which keeper soonest.
	k.next = map[*ledger.Instance]*ledger.Instance{}
	reachable := map[*ledger.Instance]bool{}
	for _, i := range reached {
		reachable[i] = true
	}
	queue := holders
	for n := 0; n < len(queue); n++ {
		at := queue[n]
		if n >= len(holders) && (BelongsToScope(at) || at.Proxy()) {
			continue // one of list that others of it keep
		}
		k.world.Step(len(at.Keeps))
		for e := range at.Keeps {
			below := at.Keeps[e].Kept
			if below != nil && reachable[below] && k.next[below] == nil {
				k.next[below] = at
				queue = append(queue, below)
			}
		}
	}
	for _, d := range reached[:kept] {
		if k.next[d] != nil {
			k.list(d, home, fromRoot, tell)
		}
	}
}

// list reports the paths to d one by one, as many as there is room for; the nearest one in any case.
func (k *Keeping) list(d *ledger.Instance, home *ledger.Scope, fromRoot bool, tell func(Way)) {
	left := maxWays
	var climb func(at *ledger.Instance, chain []*ledger.Instance)
	climb = func(at *ledger.Instance, chain []*ledger.Instance) {
		if len(chain) > maxSteps || at != d && at.Proxy() {
			return
		}
		k.world.Step(1)
		for _, keeper := range at.KeptBy {
			if k.tries--; k.tries < 0 || left == 0 {
				return
			}
			h := keeper.Holder
			r := roleOf(h, home, fromRoot)
			if r == stops || r == passed && k.next[h] == nil || slices.Contains(chain, h) {
				continue
			}
			up := append([]*ledger.Instance{h}, chain...)
			if r == holds {
				left--
				tell(Way{up, len(up) - 1, fromRoot})
				continue
			}
			climb(h, up)
		}
	}
	climb(d, []*ledger.Instance{d})
	if left < maxWays {
		return
	}
	var path []*ledger.Instance
	for at := d; at != nil && len(path) <= maxVisits; at = k.next[at] {
		path = append(path, at)
	}
	slices.Reverse(path)
	if roleOf(path[0], home, fromRoot) != holds {
		return
	}
	steps := len(path) - 1
	if steps > maxSteps {
		path = slices.Delete(path, maxSteps/2, len(path)-maxSteps/2)
	}
	tell(Way{path, steps, fromRoot})
}

// Carried calls f for the instances of scopes that i keeps, directly or through others: they come with it when it is
// captive. What lives as long as its container is left out, with what it keeps.
func (k *Keeping) Carried(i *ledger.Instance, f func(*ledger.Instance)) {
	k.down.start(k.world, maxVisits)
	k.down.visit(i)
	list := []*ledger.Instance{i}
	for n := 0; n < len(list); n++ {
		at := list[n]
		for e := range k.down.follow(len(at.Keeps)) {
			below := at.Keeps[e].Kept
			if below == nil || below.Class().Long() && !BelongsToScope(below) || !k.down.visit(below) {
				continue
			}
			if BelongsToScope(below) {
				f(below)
			}
			list = append(list, below)
		}
	}
}

// KeptInto reports whether an instance other than except that keeps i, directly or through others, belongs to scope s or outlasts it. Known
// is false where that would take too long to find out.
func (k *Keeping) KeptInto(i *ledger.Instance, s *ledger.Scope, except *ledger.Instance) (kept, known bool) {
	if len(i.KeptBy) == 0 {
		return false, true
	}
	if h := k.explained[i.ID%explanations].of(i, k.world); h != nil && h != except && s.BelongsTo(h.Home()) {
		return true, true
	}
	// A scope that uses an instance often would have the same answer worked out each time.
	if a := &k.answer; except == nil && a.kept == i && a.scope == s && a.asOf == k.world.Changed {
		return false, a.known
	}
	by, known := k.keptInto(i, s, except)
	if by != nil {
		k.explained[i.ID%explanations] = explanation{i.ID, i.MadeSeq, by.ID, by.MadeSeq}
		return true, true
	}
	if except == nil {
		k.answer = notKept{kept: i, scope: s, asOf: k.world.Changed, known: known}
	}
	return false, known
}

// notKept is the latest negative answer of KeptInto.
type notKept struct {
	kept  *ledger.Instance
	scope *ledger.Scope
	asOf  int64 // World.Changed
	known bool
}

// explanation is an instance that keeps another, directly or through others.
type explanation struct {
	kept       event.InstID
	keptMade   int64 // MadeSeq
	holder     event.InstID
	holderMade int64
}

// explanations is how many of the latest are kept.
const explanations = 64

// of returns the holder of i, nil where none is kept.
func (e *explanation) of(i *ledger.Instance, w *ledger.World) *ledger.Instance {
	if e.kept != i.ID || e.keptMade != i.MadeSeq {
		return nil
	}
	if h := w.Instance(e.holder); h != nil && h.MadeSeq == e.holderMade && h.Home() != nil {
		return h
	}
	return nil
}

func (k *Keeping) keptInto(i *ledger.Instance, s *ledger.Scope, except *ledger.Instance) (by *ledger.Instance, known bool) {
	k.up.start(k.world, maxVisits)
	k.up.visit(i)
	list := append(k.queue[:0], i)
	defer func() { k.queue = list }()
	joins := s.Joins()
	for n := 0; n < len(list); n++ {
		keepers := list[n].KeptBy
		most := k.up.follow(len(keepers))
		for _, keeper := range keepers[len(keepers)-most:] { // the latest, where there are too many
			h := keeper.Holder
			if h == except {
				continue
			}
			if home := h.Home(); home != nil && s.BelongsTo(home) {
				return h, true
			}
			if len(h.KeptBy) > 0 && k.up.visit(h) {
				list = append(list, h)
			}
		}
		k.world.Step(joins * most)
	}
	return nil, !k.up.abandoned
}
