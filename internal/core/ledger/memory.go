package ledger

// ended lists the remembered ended instances, from the one that was last referred to longest ago to the newest. It is one
// piece of memory rather than a chain: what is to be judged next is known without looking at what comes before it.
type ended struct {
	list  []*Instance // nil: one that was taken out
	head  int         // nothing stands before it
	first int64       // the place of list[0], counted from 1
	n     int
}

func (q *ended) push(i *Instance) {
	if len(q.list) == cap(q.list) && 2*q.n <= len(q.list) {
		q.close()
	}
	i.place = q.first + int64(len(q.list)) + 1
	q.list = append(q.list, i)
	q.n++
}

func (q *ended) remove(i *Instance) {
	q.list[i.place-1-q.first] = nil
	i.place = 0
	q.n--
}

// close moves what is left together.
func (q *ended) close() {
	left := q.list[:0]
	for _, i := range q.list[q.head:] {
		if i != nil {
			i.place = q.first + int64(len(left)) + 1
			left = append(left, i)
		}
	}
	clear(q.list[len(left):])
	q.list, q.head = left, 0
}

// oldest appends the first n to list.
func (q *ended) oldest(list []*Instance, n int) []*Instance {
	for q.head < len(q.list) && q.list[q.head] == nil {
		q.head++
	}
	for at := q.head; n > 0; at++ {
		if i := q.list[at]; i != nil {
			list = append(list, i)
			n--
		}
	}
	return list
}

// scopeList is a list from the scope that closed first to the one that closed last.
type scopeList struct {
	first, last *Scope
	n           int
}

// remember puts an ended instance among the remembered ones; letGo decides which of them stay.
func (w *World) remember(i *Instance) { w.deadInsts.push(i) }

// letGo forgets what has ended and is over the bound: the instances that nothing alive keeps, and closed scopes. Many are
// judged at once, so that their keepers are checked once for all of them.
func (w *World) letGo() {
	if over := w.deadInsts.n - w.Remember; over > min(w.Remember/16, maxOver) {
		w.forgetInstances(over)
	}
	for w.deadScope.n > w.Remember/2 {
		w.forgetScope()
	}
}

// maxOver is how many are judged at once: few enough to be inspected several times while a processor has them cached.
const maxOver = 512

// What forgetInstances knows of an instance.
const (
	unlooked uint8 = iota
	looking        // something that is about to be forgotten, or what keeps it
	held           // and it is kept by something alive, through any number of steps
	leaving        // it is being forgotten
)

// forgetInstances takes the n that ended first out of the remembered ones: those that something alive keeps are pinned,
// the others are released. Every keeper is inspected once.
func (w *World) forgetInstances(n int) {
	all := w.deadInsts.oldest(w.judged[:0], n)
	for _, i := range all {
		i.looked = looking
	}
	for at := 0; at < len(all); at++ {
		i := all[at]
		w.Step(1 + len(i.KeptBy))
		if i.Ended && !i.pinned { // else it is known to be held
			for _, k := range i.KeptBy {
				if h := k.Holder; h.looked == unlooked {
					h.looked = looking
					all = append(all, h)
				}
			}
		}
	}
	oldest := all[:n]
	var next []*Instance
	for _, i := range all {
		if !i.Ended || i.pinned {
			i.looked = held
			next = append(next, i)
		}
	}
	for len(next) > 0 {
		i := next[len(next)-1]
		next = next[:len(next)-1]
		w.Step(1 + len(i.Keeps))
		for e := range i.Keeps {
			if k := i.Keeps[e].Kept; k != nil && i.Keeps[e].back >= 0 && k.looked == looking {
				k.looked = held
				next = append(next, k)
			}
		}
	}
	for _, i := range oldest {
		w.deadInsts.remove(i)
		if i.looked == held {
			i.pinned = true
			w.pinned++
		} else {
			i.looked = leaving
		}
	}
	for _, i := range oldest {
		// Not "unless it is pinned": releasing one may end the pinning of another, which is then remembered again.
		if i.looked == leaving {
			w.release(i)
		}
	}
	for _, i := range all {
		i.looked = unlooked
	}
	clear(all)
	if w.judged = all[:0]; cap(all) > 16*maxOver {
		w.judged = nil
	}
}

// refresh moves an ended instance that is still talked about to the young end.
func (w *World) refresh(i *Instance) {
	if i.place > 0 {
		w.deadInsts.remove(i)
		w.deadInsts.push(i)
	}
}

// release forgets an instance for good, and what only it kept becomes forgettable. Its memory is used again where nothing
// points to it any more.
func (w *World) release(i *Instance) {
	w.insts.drop(uint64(i.ID))
	w.leaveHome(i)
	w.Step(len(i.Keeps) + len(i.KeptBy))
	for n := range i.Keeps {
		w.unkeep(i, n)
	}
	again := !i.Held() && !i.listed()
	for _, k := range i.KeptBy {
		if k.Holder.looked == leaving { // it is being evicted itself
			continue
		}
		e := &k.Holder.Keeps[k.edge]
		if e.back = -1; again {
			e.Kept = nil
		}
	}
	if i.rare != nil {
		for _, h := range i.rare.handouts {
			h.to.Let()
		}
		i.rare.handouts = nil
	}
	clear(i.Keeps)
	clear(i.KeptBy)
	if again && len(w.spare) < w.spares() {
		w.spare = append(w.spare, i)
		i.MadeSeq = 0 // ends what is weak
		if i.Letting != &notLetGo && len(w.lettings) < w.spares() {
			w.lettings = append(w.lettings, i.Letting)
		}
		return
	}
	i.Keeps, i.KeptBy = nil, nil
	i.oneKeeper[0] = Keeper{}
}

// listed reports whether the ledger itself lists i by other things than its id.
func (i *Instance) listed() bool {
	return i.built || i.Reg != nil && !i.Reg.Known
}

// The bounds of how many instances wait to be used again: an eighth of those that are kept, within these.
const (
	minSpare = 128
	maxSpare = 8192
)

func (w *World) spares() int { return min(maxSpare, max(minSpare, w.Remember/8)) }

// unkeep cuts the n-th edge of holder.
func (w *World) unkeep(holder *Instance, n int) {
	kept, at := holder.Keeps[n].Kept, holder.Keeps[n].back
	holder.Keeps[n].Kept = nil
	if kept == nil || at < 0 || kept.looked == leaving {
		return
	}
	last := len(kept.KeptBy) - 1
	moved := kept.KeptBy[last]
	kept.KeptBy[at] = moved
	moved.Holder.Keeps[moved.edge].back = at
	kept.KeptBy[last] = Keeper{}
	kept.KeptBy = kept.KeptBy[:last]
	if kept.pinned { // it may be held by nothing any more: it is inspected again when its turn comes
		kept.pinned = false
		w.pinned--
		w.remember(kept)
	}
}

func (w *World) rememberScope(s *Scope) {
	l := &w.deadScope
	s.prev, s.remembered = l.last, true
	if l.last != nil {
		l.last.next = s
	} else {
		l.first = s
	}
	l.last = s
	l.n++
}

// forgetScope releases the scope that closed first.
func (w *World) forgetScope() {
	l := &w.deadScope
	old := l.first
	l.first = old.next
	if l.first != nil {
		l.first.prev = nil
	} else {
		l.last = nil
	}
	old.next, old.remembered = nil, false
	l.n--
	w.tell(Change{What: ScopeForgotten, Scope: old})
	w.scopes.drop(uint64(old.ID))
}
