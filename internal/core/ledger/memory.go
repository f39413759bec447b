package ledger

// instList and scopeList are lists from the one that was last referred to longest ago to the newest.
type instList struct {
	first, last *Instance
	n           int
}

type scopeList struct {
	first, last *Scope
	n           int
}

func (l *instList) push(i *Instance) {
	i.prev, i.next, i.remembered = l.last, nil, true
	if l.last != nil {
		l.last.next = i
	} else {
		l.first = i
	}
	l.last = i
	l.n++
}

func (l *instList) remove(i *Instance) {
	if i.prev != nil {
		i.prev.next = i.next
	} else {
		l.first = i.next
	}
	if i.next != nil {
		i.next.prev = i.prev
	} else {
		l.last = i.prev
	}
	i.prev, i.next, i.remembered = nil, nil, false
	l.n--
}

// remember puts an ended instance among the remembered ones and lets the oldest go.
func (w *World) remember(i *Instance) {
	w.deadInsts.push(i)
	for w.deadInsts.n > w.Remember {
		old := w.deadInsts.first
		w.deadInsts.remove(old)
		if old.keptAlive(16) {
			old.pinned = true
			w.pinned++
			continue
		}
		w.release(old)
	}
}

// refresh moves an ended instance that is still talked about to the young end.
func (w *World) refresh(i *Instance) {
	if i.remembered {
		w.deadInsts.remove(i)
		w.deadInsts.push(i)
	}
}

// release forgets an instance for good, and what only it kept becomes forgettable.
func (w *World) release(i *Instance) {
	w.insts.drop(uint64(i.ID))
	w.leaveHome(i)
	for n := range i.Keeps {
		w.unkeep(i, n)
	}
	for _, k := range i.KeptBy {
		k.Holder.Keeps[k.edge].back = -1
	}
	clear(i.Keeps)
	i.Keeps, i.KeptBy, i.handouts = nil, nil, nil
	i.oneKeeper[0] = Keeper{}
}

// unkeep cuts the n-th edge of holder.
func (w *World) unkeep(holder *Instance, n int) {
	kept, at := holder.Keeps[n].Kept, holder.Keeps[n].back
	holder.Keeps[n].Kept = nil
	if kept == nil || at < 0 {
		return
	}
	last := len(kept.KeptBy) - 1
	moved := kept.KeptBy[last]
	kept.KeptBy[at] = moved
	moved.Holder.Keeps[moved.edge].back = at
	kept.KeptBy[last] = Keeper{}
	kept.KeptBy = kept.KeptBy[:last]
	if kept.pinned && !kept.keptAlive(16) {
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
	for l.n > w.Remember/2 {
		old := l.first
		l.first = old.next
		if l.first != nil {
			l.first.prev = nil
		}
		old.next, old.remembered = nil, false
		w.tell(Change{What: ScopeForgotten, Scope: old})
		l.n--
		w.scopes.drop(uint64(old.ID))
	}
}
