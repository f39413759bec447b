package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// ByHand writes which places construct past the container.
func ByHand(out io.Writer, v views.ByHandView, s Style) {
	named(out, s, func(out io.Writer, s Style) { byHand(out, v, s) })
}

func byHand(out io.Writer, v views.ByHandView, s Style) {
	if len(v.Places) == 0 {
		fmt.Fprintln(out, "No construction past the container was recorded.")
		return
	}
	rows := [][]string{}
	for n := range v.Places {
		r := &v.Places[n]
		registered := "-"
		if r.Registered != nil {
			registered = s.whole(r.Registered)
			if r.Registered.Place() != "" {
				registered += " (" + s.place(r.Registered) + ")"
			}
		}
		to := []string{}
		for k := range r.GivenTo[:min(3, len(r.GivenTo))] {
			to = append(to, s.who(&r.GivenTo[k]))
		}
		rows = append(rows, []string{
			s.typeName(r.Implementation), dash(Clean(r.At)), finding.Number(r.Count), finding.Number(r.Disposed), registered, dash(strings.Join(to, ", ")),
		})
	}
	FitTable(out, s, []string{"constructed", "place", "made", "disposed", "registered as", "given to"}, rows, []int{0, 1, 4, 5}, 2, 3)
	more(out, len(rows), v.Total)
}
