package rules

import (
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// Together takes the findings of several streams and leaves out what one declares and another shows happening: a way on
// which something would be kept, a circle that could not be built. Within one stream that is known by registration; between
// streams it goes by names.
func Together(list []*finding.Finding) []*finding.Finding {
	ways, circles := map[string]bool{}, map[string]bool{}
	for _, f := range list {
		switch f.Rule {
		case captiveScopedRule.ID:
			for n := 0; n+1 < len(f.Path); n++ {
				ways[wayOf(f.Path[n:])] = true
			}
		case cycleRule.ID:
			circles[f.Subject.Service] = true
			for _, m := range f.Path {
				circles[m.Service] = true
			}
		}
	}
	return slices.DeleteFunc(list, func(f *finding.Finding) bool {
		switch f.Rule {
		case captiveDeclaredRule.ID:
			return ways[wayOf(f.Path)]
		case cycleDeclaredRule.ID:
			return circles[f.Subject.Service] || slices.ContainsFunc(f.Path, func(m finding.Ref) bool { return circles[m.Service] })
		}
		return false
	})
}

func wayOf(path []finding.Ref) string {
	names := make([]string, len(path))
	for n := range path {
		names[n] = path[n].Name()
	}
	return strings.Join(names, "\x00")
}
