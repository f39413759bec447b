package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// Redundant returns the ids of findings of several streams that only declare what another one shows happening: a way on
// which something would be kept, a circle that could not be built. Within one stream that is known by registration; between
// streams it goes by names.
func Redundant(outlines []finding.Outline) map[string]bool {
	ways, circles := map[string]bool{}, map[string]bool{}
	for _, m := range outlines {
		switch m.Rule {
		case captiveScopedRule.ID:
			for n := 0; n+1 < len(m.Path); n++ {
				ways[wayOf(m.Path[n:])] = true
			}
		case cycleRule.ID:
			circles[m.Subject.Service] = true
			for _, on := range m.Path {
				circles[on.Service] = true
			}
		}
	}
	ids := map[string]bool{}
	for _, m := range outlines {
		switch m.Rule {
		case captiveDeclaredRule.ID:
			ids[m.ID] = ways[wayOf(m.Path)]
		case cycleDeclaredRule.ID:
			ids[m.ID] = circles[m.Subject.Service] || slices.ContainsFunc(m.Path, func(on finding.Ref) bool { return circles[on.Service] })
		}
	}
	return ids
}

func wayOf(path []finding.Ref) string {
	names := make([]string, len(path))
	for n := range path {
		names[n] = path[n].Name()
	}
	return strings.Join(names, "\x00")
}
