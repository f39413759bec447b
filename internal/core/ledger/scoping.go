package ledger

import (
	"cmp"
	"fmt"
	"slices"

	"keenlantern.example/record/event"
)

// Open calls f for every scope that is kept and whose own close line has not come, roots apart.
func (w *World) Open(f func(*Scope)) {
	list := []*Scope{}
	w.scopes.each(func(s *Scope) {
		if s.opened && !s.Closed && !s.Root {
			list = append(list, s)
		}
	})
	slices.SortFunc(list, func(a, b *Scope) int { return cmp.Compare(a.ID, b.ID) })
	for _, s := range list {
		f(s)
	}
}

// scopeFor returns the scope with this id, to be opened later if need be: a make does not wait for its open.
func (w *World) scopeFor(id event.ScopeID) *Scope {
	s := w.scopes.get(uint64(id))
	if s == nil {
		s = &Scope{ID: id, Weight: 1, Parent: w.scopes.get(0)}
		w.scopes.put(uint64(id), s)
	}
	return s
}

// scopeOf returns the scope that a line names, nil where it names none or one that is no longer remembered.
func (w *World) scopeOf(ev *event.Event) *Scope {
	if !ev.Has.Has(event.FScope) {
		return nil
	}
	return w.scopes.get(uint64(ev.Scope))
}

func (w *World) nest(s, parent *Scope) {
	if parent == nil || parent == s || parent.Inside(s) {
		return
	}
	for over := parent.depth() + 1 + int(s.height) - MaxDepth; over > 0 && parent.Parent != nil; over-- {
		parent = parent.Parent
		if over == 1 {
			w.Flattened++
		}
	}
	s.Parent = parent
	s.list(parent)
	for at, n := parent, s.height+1; at != nil && at.height < n; at, n = at.Parent, n+1 {
		at.height = n
	}
}

// list puts s among those that end when the root around parent closes.
func (s *Scope) list(in *Scope) {
	s.unlist()
	s.listed, s.childIndex = in, len(in.children)
	in.children = append(in.children, s)
}

func (s *Scope) unlist() {
	in := s.listed
	if in == nil {
		return
	}
	last := len(in.children) - 1
	moved := in.children[last]
	in.children[s.childIndex] = moved
	moved.childIndex = s.childIndex
	in.children[last] = nil
	in.children = in.children[:last]
	s.listed = nil
}

func (w *World) open(ev *event.Event) error {
	s := w.scopeFor(ev.Scope)
	if s.opened || s.ID == 0 {
		return fmt.Errorf("scope %d was opened before, on line %d", ev.Scope, s.Line)
	}
	s.opened = true
	// A container's root needs no open and may have one, with more.
	if !s.Root {
		w.nest(s, w.scopeFor(ev.InScope))
	}
	s.Known, s.Opened, s.Line = true, ev.T, ev.Line
	s.Kind, s.Name, s.Trace, s.Weight = ev.ScopeKind, ev.Name, ev.Trace, ev.Weight
	s.Naming = w.names.number(s.Name, s.Kind)
	s.EndsUnknown, s.Lasting = ev.Ends == "unknown", ev.Ends == "shutdown"
	s.Closer, s.Opener, s.At, s.During = ev.Closer, ev.Opener, ev.At, ev.Within
	if !s.Root {
		w.Began = min(w.Began, ev.T)
	}
	w.ScopesOpened++
	w.ScopeWeight += ev.Weight
	// New work begins around it: what was disposed there before was no closing.
	s.Parent.working()
	w.tell(Change{What: Opened, Event: ev, Scope: s})
	return nil
}

// OpenedBy reports whether s, or a scope around it, was opened by the work of outer or of a scope that belongs to outer, and outer is open:
// what lives in the one may be handed into the other meanwhile.
func (w *World) OpenedBy(s, outer *Scope) bool {
	if outer.Ended || outer.Root {
		return false
	}
	for n := 0; s != nil && n < maxJoined; n++ {
		w.Step(1)
		if s.During == 0 {
			s = s.Parent
			continue
		}
		if s = w.scopes.get(uint64(s.During)); s == nil || s.Ended {
			return false
		}
		w.Step(s.Joins())
		if s.BelongsTo(outer) {
			return true
		}
	}
	return false
}

// join notes that a scope belongs to another one without lying in it.
func (w *World) join(ev *event.Event) error {
	s, around := w.scopes.get(uint64(ev.Scope)), w.scopes.get(uint64(ev.InScope))
	switch {
	case s == nil:
		return &Gone{fmt.Sprintf("scope %d", ev.Scope)}
	case around == nil:
		return &Gone{fmt.Sprintf("scope %d", ev.InScope)}
	case around.BelongsTo(s):
		return fmt.Errorf("scope %d cannot belong to scope %d, which belongs to it", ev.Scope, ev.InScope)
	case slices.Contains(s.Around, around):
		return nil
	case len(s.Around) == maxAround:
		s.joinsMore = true
		around.Members = true
		return nil
	}
	s.Around = append(s.Around, around)
	around.Members = true
	return nil
}

// working notes that no closing is going on in s or around it after all.
func (s *Scope) working() {
	for ; s != nil; s = s.Parent {
		s.closingSince = 0
	}
}

// mark notes that something was made, given or used in s.
func (w *World) mark(s *Scope, use bool) {
	if s != nil && s.Root {
		s.LastLine = w.Line
	}
	for ; s != nil; s = s.Parent {
		if !use || s.closingSince == 0 {
			s.active = w.Seq
		}
		for _, around := range s.Around {
			if !use || around.closingSince == 0 {
				around.active = w.Seq
			}
		}
	}
}

func (w *World) close(ev *event.Event) error {
	s := w.scopes.get(uint64(ev.Scope))
	if s == nil {
		return &Gone{fmt.Sprintf("scope %d", ev.Scope)}
	}
	if s.Closed {
		return fmt.Errorf("scope %d was closed before", ev.Scope)
	}
	s.Closed = true
	if s.Ended { // by a root around it
		return nil
	}
	w.endScope(s, ev)
	return nil
}

// stepsOfClosing is how often the rules and the ledger look at each instance of a scope that closes, at most. The lines that made the instances
// pay for it: one close may end millions of them.
const stepsOfClosing = 16

// endScope ends s and what is at home in it; a root ends the scopes inside it first.
func (w *World) endScope(s *Scope, ev *event.Event) {
	for s.Root && len(s.children) > 0 {
		child := s.children[len(s.children)-1]
		if child.Ended {
			child.unlist()
			continue
		}
		w.endScope(child, ev)
	}
	w.meter.Grant(stepsOfClosing * len(s.Homed))
	w.tell(Change{What: ScopeClosing, Event: ev, Scope: s})
	s.Ended, s.ClosedAt, s.ClosedSeq, s.CloseLine = true, ev.T, w.Seq, ev.Line
	w.Step(len(s.Homed))
	for _, i := range s.Homed {
		w.end(i, HomeClosed, ev.T)
	}
	w.tell(Change{What: ScopeClosed, Event: ev, Scope: s})
	for _, i := range s.Homed {
		i.homeIndex = -1
	}
	for _, i := range s.Built {
		i.built = false
	}
	w.giveBack(s.Homed)
	w.giveBack(s.Built)
	s.Homed, s.Built = nil, nil
	w.spansOf = nil
	s.closingSince = 0
	// What is still open inside it goes on, and ends with the root around it.
	for len(s.children) > 0 {
		child := s.children[len(s.children)-1]
		child.unlist()
		if s.listed != nil {
			child.list(s.listed)
		}
	}
	s.unlist()
	w.rememberScope(s)
}

// Remembered calls f for every closed scope that is kept, from the one that closed first.
func (w *World) Remembered(f func(*Scope)) {
	for s := w.deadScope.first; s != nil; s = s.next {
		f(s)
	}
}
