package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Layers writes where decorators stand.
func Layers(out io.Writer, v views.LayersView, s Style) {
	named(out, s, func(out io.Writer, s Style) { layers(out, v, s) })
}

func layers(out io.Writer, v views.LayersView, s Style) {
	if len(v.Stacks) == 0 {
		fmt.Fprintln(out, "Nothing is registered or seen as a layer around something else.")
		return
	}
	for n := range v.Stacks {
		k := &v.Stacks[n]
		if n > 0 {
			fmt.Fprintln(out)
		}
		how := ""
		if !k.Declared {
			how = " (nothing declares it: the longest stack that was built)"
		}
		fmt.Fprintf(out, "%s%s\n", s.paint(bold, s.whole(&finding.Ref{Service: k.Service, Key: k.Key})), how)
		rows := [][]string{}
		for d, l := range k.Layers {
			name := s.impl(&l.Of)
			if name == "-" {
				name = s.whole(&l.Of)
			}
			rows = append(rows, []string{strings.Repeat("  ", d) + name, calls(v.UseSeen, l.Calls), finding.Number(l.Made), dash(l.Of.Lifetime), s.place(&l.Of)})
		}
		FitTable(out, s, []string{"  layer, outermost first", "calls", "made", "lifetime", "place"}, inset(rows), []int{0, 4}, 1, 2)
		for _, seen := range k.Seen {
			names := []string{}
			for _, l := range seen.Layers {
				if names = append(names, s.impl(&l)); l.Impl() == "" {
					names[len(names)-1] = Clean(l.Name())
				}
			}
			who := []string{}
			for _, a := range seen.Who[:min(4, len(seen.Who))] {
				who = append(who, s.who(&a))
			}
			state := "complete"
			if !seen.Whole {
				state = "! incomplete"
			}
			wrapped(out, fmt.Sprintf("  %s, %s:", state, finding.Count(seen.Count, "time", "times")), 24, s.width(), strings.Join(names, " › ")+" to "+strings.Join(who, ", "))
		}
	}
	more(out, len(v.Stacks), v.Total)
	if !v.UseSeen {
		fmt.Fprintln(out, "\n  Calls were not recorded.")
	}
}

// calls writes a count of calls, or that none were recorded.
func calls(seen bool, n int64) string {
	if !seen {
		return "not recorded"
	}
	return finding.Number(n)
}
