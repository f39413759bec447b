package ledger

import (
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// The bounds of one drawing: what a person can still read.
const (
	maxTouches      = 48
	maxWatchScopes  = 12
	maxWatchedLives = 12
	maxWatchedKeeps = 1024 // looked through of one instance
)

// Watch follows a few instances for the sake of one example, from the moment it was found, so that it can be drawn.
type Watch struct {
	lives  []watched
	scopes []*Scope
	uses   []finding.Touch
	more   int64
	to     int64
}

type watched struct {
	inst *Instance
	role string
}

// Follow starts a Watch of instances with their roles.
func (w *World) Follow(roles []string, insts []*Instance) *Watch {
	watch := &Watch{to: w.T}
	for n, i := range insts[:min(len(insts), maxWatchedLives)] {
		watch.lives = append(watch.lives, watched{i.Hold(), roles[n]})
		watch.see(i.Home())
		watch.see(i.Scope)
		i.rarely().watches = append(i.rarely().watches, watch)
	}
	return watch
}

// See puts a scope into the drawing.
func (w *Watch) see(s *Scope) {
	for ; s != nil && !s.Root; s = s.Parent {
		if len(w.scopes) < maxWatchScopes && !slices.Contains(w.scopes, s) {
			w.scopes = append(w.scopes, s)
		}
	}
}

// touch notes a use or a hand-out.
func (w *Watch) touch(i *Instance, kind, by string, s *Scope, t int64) {
	w.to = max(w.to, t)
	if len(w.uses) >= maxTouches {
		w.more++
		return
	}
	w.see(s)
	touch := finding.Touch{Instance: uint64(i.ID), Kind: kind, By: by, At: t, After: i.Ended && t >= i.EndedAt}
	if s != nil {
		id := uint64(s.ID)
		touch.Scope = &id
	}
	w.uses = append(w.uses, touch)
}

// touched notifies the watches of i.
func (i *Instance) touched(kind, by string, s *Scope, t int64) {
	if i.rare == nil {
		return
	}
	for _, w := range i.rare.watches {
		w.touch(i, kind, by, s, t)
	}
}

// Evidence returns what was seen so far.
func (w *Watch) Evidence() *finding.Evidence {
	e := &finding.Evidence{To: w.to, More: w.more, Scopes: []finding.Band{}, Keeps: []finding.Keep{}, Uses: slices.Clone(w.uses)}
	e.From = w.to
	in := map[event.InstID]bool{}
	for _, l := range w.lives {
		in[l.inst.ID] = true
	}
	for _, l := range w.lives {
		i := l.inst
		life := finding.Life{
			Instance: uint64(i.ID), Mark: finding.Mark(uint64(i.ID)), Role: l.role, Of: i.Ref(), Made: i.Made, End: i.End.String(),
		}
		if i.home != nil {
			id := uint64(i.home.ID)
			life.Home = &id
		}
		e.From = min(e.From, i.Made)
		if i.Ended {
			at := i.EndedAt
			life.Ended = &at
			e.To = max(e.To, at)
		}
		e.Lives = append(e.Lives, life)
		for _, k := range i.Keeps[:min(len(i.Keeps), maxWatchedKeeps)] {
			if k.Kept != nil && in[k.ID] {
				e.Keeps = append(e.Keeps, finding.Keep{Holder: uint64(i.ID), Kept: uint64(k.ID), At: k.At})
			}
		}
	}
	for _, s := range w.scopes {
		band := finding.Band{Scope: uint64(s.ID), Name: s.Name, Kind: s.Kind, Opened: s.Opened}
		if s.Parent != nil && !s.Parent.Root {
			id := uint64(s.Parent.ID)
			band.In = &id
		}
		e.From = min(e.From, s.Opened)
		if s.Ended {
			at := s.ClosedAt
			band.Closed = &at
			e.To = max(e.To, at)
		}
		e.Scopes = append(e.Scopes, band)
	}
	if e.Uses == nil {
		e.Uses = []finding.Touch{}
	}
	return e
}
