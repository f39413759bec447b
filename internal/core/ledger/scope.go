package ledger

import "keenlantern.example/record/event"

// Scope is a stretch of work with its own instances. One that has only been mentioned so far is not Known.
type Scope struct {
	ID          event.ScopeID
	Known       bool
	Root        bool // a container's root
	Parent      *Scope
	Kind, Name  string
	Naming      Naming
	Trace       string
	Weight      int64
	EndsUnknown bool
	Lasting     bool   // it may last until its container is shut down: a session, a tenant
	Closer      string // who has to close it: "framework", "code", "unknown"; "": the trace does not say
	Opener      event.InstID
	During      event.ScopeID // the scope whose work opened it, in which it does not lie; 0: none is known
	At          string        // the place in the source that opened it
	Opened      int64         // ns
	Line        int64

	// Closed is set by its own close line, Ended also when a root around it closed.
	Closed, Ended bool
	ClosedAt      int64 // ns
	ClosedSeq     int64

	// Around are scopes that it belongs to without lying in them, and Members is set if others belong to it so.
	Around  []*Scope
	Members bool

	joinsMore bool // it belongs to more than Around lists

	// Homed are the instances that end with the scope: those alive, and ended ones that something keeps.
	Homed []*Instance

	Makes, Uses int64 // instances made and calls made in it
	BuiltNS     int64 // of the closed scope: how long making took, what ran within something else not counted twice
	Findings    int64 // occurrences that name it
	CloseLine   int64
	LastLine    int64 // of a root: the last line about it

	// Built are the instances that were made in it, in order, until the scope has closed.
	Built []*Instance

	height     int32    // how many scopes lie in it, one in the other, at most
	children   []*Scope // those open, and those open inside closed ones
	listed     *Scope   // in whose children it stands
	childIndex int
	opened     bool // by an open line

	active       int64 // the last make, give or use in it or inside it
	closingSince int64 // the first disposal of a closing that seems to be going on; 0: none

	next, prev *Scope // among the remembered closed ones
	remembered bool

	tags tags
}

// MaxDepth bounds how many scopes, or containers, lie one in the other: walks outwards are that long at most. A scope that
// is opened deeper is taken to lie in one further out, and counted (World.Flattened).
const MaxDepth = 256

// depth returns how many scopes lie around s.
func (s *Scope) depth() (n int) {
	for p := s.Parent; p != nil; p = p.Parent {
		n++
	}
	return n
}

// Inside reports whether s is outer or lies in it.
func (s *Scope) Inside(outer *Scope) bool {
	for ; s != nil; s = s.Parent {
		if s == outer {
			return true
		}
	}
	return false
}

// maxAround bounds how many scopes one belongs to, and maxJoined how far outwards from a scope such are searched for.
const (
	maxAround = 4
	maxJoined = 16
)

// BelongsTo reports whether s is outer or lies in it, or it or a scope around it has joined one that does.
func (s *Scope) BelongsTo(outer *Scope) bool {
	if outer == nil || s.Inside(outer) {
		return outer != nil
	}
	for n := 0; s != nil && n < maxJoined; s, n = s.Parent, n+1 {
		for _, around := range s.Around {
			if around.Inside(outer) {
				return true
			}
		}
	}
	return false
}

// Joins returns one more than how many scopes are looked through by BelongsTo beside those around s: what a walk costs that asks it.
func (s *Scope) Joins() int {
	joins := 1
	for n := 0; s != nil && n < maxJoined; s, n = s.Parent, n+1 {
		joins += len(s.Around)
	}
	return joins
}

// JoinsMore reports whether s, or a scope around it, belongs to more scopes than are followed.
func (s *Scope) JoinsMore() bool {
	for n := 0; s != nil && n < maxJoined; s, n = s.Parent, n+1 {
		if s.joinsMore {
			return true
		}
	}
	return false
}

// Within returns a scope of a kind in which s lies or to which it belongs, nil if there is none.
func (s *Scope) Within(kind string) *Scope {
	for n := 0; s != nil; s, n = s.Parent, n+1 {
		if !s.Root && s.Kind == kind {
			return s
		}
		if n >= maxJoined {
			continue
		}
		for _, around := range s.Around {
			for ; around != nil; around = around.Parent {
				if !around.Root && around.Kind == kind {
					return around
				}
			}
		}
	}
	return nil
}

// Outlasts reports whether s is a proper ancestor of inner, or inner belongs to it. A nil scope neither outlasts nor is outlasted.
func (s *Scope) Outlasts(inner *Scope) bool {
	return s != nil && inner != nil && s != inner && inner.BelongsTo(s)
}

// Closing returns the sequence number of the first disposal of the closing that is going on, 0 if none is.
func (s *Scope) Closing() int64 { return s.closingSince }

// ActiveSince reports whether anything was made, given or used in s or inside it after the sequence number seq. Uses
// between a closing's first disposal and its close are the disposers' own and do not count.
func (s *Scope) ActiveSince(seq int64) bool { return s.active > seq }
