package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// Together finds out which findings of several streams only declare what another stream shows happening: a way on which something would be
// kept, a circle that could not be built. Within one stream that is known by registration, so that a declared finding beside an observed one
// of the same names is of another registration, and stays; between streams it uses names. The zero value is ready.
type Together struct {
	all      shown
	declared map[string]finding.Outline // by id
	stays    map[string]bool
}

// Add adds the findings of one stream.
func (t *Together) Add(outlines []finding.Outline) {
	if t.declared == nil {
		t.declared, t.stays = map[string]finding.Outline{}, map[string]bool{}
	}
	var own shown
	own.add(outlines)
	t.all.add(outlines)
	for _, m := range outlines {
		if m.Rule != captiveDeclaredRule.ID && m.Rule != cycleDeclaredRule.ID {
			continue
		}
		t.declared[m.ID] = m
		if own.has(&m) {
			t.stays[m.ID] = true
		}
	}
}

// Redundant returns the ids of the findings that another one makes redundant.
func (t *Together) Redundant() map[string]bool {
	ids := map[string]bool{}
	for id, m := range t.declared {
		if !t.stays[id] && t.all.has(&m) {
			ids[id] = true
		}
	}
	return ids
}

// shown holds observed facts by name: paths on which an instance is kept, and services in circles.
type shown struct{ ways, circles map[string]bool }

func (s *shown) add(outlines []finding.Outline) {
	if s.ways == nil {
		s.ways, s.circles = map[string]bool{}, map[string]bool{}
	}
	for _, m := range outlines {
		switch m.Rule {
		case captiveScopedRule.ID:
			for n := 0; n+1 < len(m.Path); n++ {
				s.ways[wayOf(m.Path[n:])] = true
			}
		case cycleRule.ID:
			s.circles[m.Subject.Service] = true
			for _, on := range m.Path {
				s.circles[on.Service] = true
			}
		}
	}
}

// has reports whether what m declares was seen to happen.
func (s *shown) has(m *finding.Outline) bool {
	switch m.Rule {
	case captiveDeclaredRule.ID:
		return s.ways[wayOf(m.Path)]
	case cycleDeclaredRule.ID:
		return s.circles[m.Subject.Service] || slices.ContainsFunc(m.Path, func(on finding.Ref) bool { return s.circles[on.Service] })
	}
	return false
}

func wayOf(path []finding.Ref) string {
	names := make([]string, len(path))
	for n := range path {
		names[n] = path[n].Name()
	}
	return strings.Join(names, "\x00")
}
