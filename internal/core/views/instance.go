package views

import (
	"cmp"
	"fmt"
	"slices"
	"sort"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/record/event"
)

// InstanceView is what is known of one instance: what it is, where and with what it was built, and what became of it.
type InstanceView struct {
	Recording string `json:"recording"`
	Stream    int    `json:"stream"`
	Thing
	At     string  `json:"at"`      // RFC 3339: when it was built
	TookNS int64   `json:"took_ns"` // building it
	By     string  `json:"by"`      // "container", "factory", "external", "direct"
	Scope  uint64  `json:"scope"`   // in which it was built; 0 is the root
	Line   int64   `json:"line"`    // 0: the trace's line could not be found again
	Alive  *bool   `json:"alive"`   // it lives in a root, and has not ended; nil where so many do that this is not known
	With   []Thing `json:"with"`    // what it was built with
}

// ErrNoInstance is returned when nothing is known of an instance.
type ErrNoInstance struct{ ID uint64 }

// Error returns which.
func (e *ErrNoInstance) Error() string {
	return fmt.Sprintf("there is no instance %d, or it was built too long ago to be found", e.ID)
}

// TellInstance answers: what is this instance, and where was it built?
func TellInstance(src *Source, stream int, id uint64) (InstanceView, error) {
	v := InstanceView{Recording: src.Recording, Stream: stream, With: []Thing{}}
	if stream < 0 || stream >= len(src.Streams) {
		return v, &ErrNoInstance{id}
	}
	s := &src.Streams[stream]
	res := newResolver(s)
	ev, err := res.makeOf(id)
	if err != nil {
		return v, err
	}
	m, ok, err := res.find(id)
	if err != nil {
		return v, err
	}
	if !ok {
		return v, &ErrNoInstance{id}
	}
	thing := func(id uint64) (t Thing, err error) {
		t = Thing{Instance: id, Mark: finding.Mark(id)}
		t.Of, t.Reg, err = res.ref(id)
		return t, err
	}
	if v.Thing, err = thing(id); err != nil {
		return v, err
	}
	v.At = clockAt(s.Head, m.t)
	alive := slices.ContainsFunc(s.State().Alive, func(a derive.Instance) bool { return a.ID == id })
	if last := len(s.State().Alive) - 1; alive || !s.State().AliveMore || id <= s.State().Alive[last].ID {
		v.Alive = &alive
	}
	if ev == nil {
		return v, nil
	}
	v.TookNS, v.By, v.Scope, v.Line = ev.NS, cmp.Or(ev.By, "container"), uint64(ev.Scope), ev.Line
	for _, w := range ev.With {
		if w.Inst == 0 || len(v.With) == maxStoryRows {
			continue
		}
		t, err := thing(uint64(w.Inst))
		if err != nil {
			return v, err
		}
		v.With = append(v.With, t)
	}
	return v, nil
}

// makeOf returns the line on which an instance was made, nil where it is not where it should be.
func (r *resolver) makeOf(id uint64) (*event.Event, error) {
	places := r.stream.State().Places
	n := max(0, sort.Search(len(places), func(n int) bool { return places[n].ID > id })-1)
	from, to := int64(1), int64(maxStoryLines)
	if len(places) > 0 {
		from, to = max(1, places[n].Line-64), places[n].Line+maxStoryLines
	}
	if n+1 < len(places) {
		to = places[n+1].Line + 64
	}
	if n == 0 {
		from = 1
	}
	var found *event.Event
	err := r.stream.Lines.Between(from, to, func(e *event.Event) bool {
		if e.Kind == event.Make {
			r.note(e)
			if uint64(e.Inst) == id {
				found = e.Clone()
				found.With = slices.Clone(e.With)
				return false
			}
		}
		return true
	})
	return found, err
}
