package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/finding"
)

// Conformance writes what was seen of a trace as a recorder's work.
func Conformance(out io.Writer, r *conform.Report, s Style) {
	fmt.Fprintf(out, "%s, %s: ", finding.Count(r.Lines, "line", "lines"), finding.Count(int64(r.Streams), "stream", "streams"))
	if r.Conforms {
		fmt.Fprintln(out, "nothing is broken.")
	} else {
		fmt.Fprintln(out, s.paint(bold, "it does not conform."))
	}
	if len(r.Problems) > 0 {
		fmt.Fprintln(out)
		for _, p := range r.Problems {
			lead := "  ? doubtful"
			if p.Broken {
				lead = "  ! broken"
			}
			where := "at the end"
			if p.Line > 0 {
				where = fmt.Sprintf("line %d", p.Line)
			}
			wrapped(out, fmt.Sprintf("%-12s  %-11s", lead, where), 27, s.width(), Clean(p.What))
		}
		if r.More > 0 {
			fmt.Fprintf(out, "  and %s of these kinds\n", finding.Count(r.More, "more", "more"))
		}
	}
	fmt.Fprintf(out, "\n%s\n", s.paint(bold, "what it tells"))
	rows := [][]string{}
	for _, t := range r.Told {
		share, means := fmt.Sprintf("%s of %s", finding.Number(t.Have), finding.Number(t.Of)), ""
		if t.Have == t.Of && t.Of > 0 {
			share = "all " + finding.Number(t.Of)
		}
		if t.Have == 0 {
			share = "none"
		}
		if t.Have < t.Of || t.Have == 0 {
			means = t.Means
		}
		rows = append(rows, []string{"  " + t.What, share, means})
	}
	FitTable(out, s, []string{"  of the trace", "told", "where it is missing"}, rows, []int{2}, 1)
	if len(r.Silent) > 0 {
		fmt.Fprintln(out)
		wrapped(out, "These rules stay silent, since hello.sees leaves out what they need:", 2, s.width(), "\n")
		wrapped(out, "  ", 2, s.width(), strings.Join(r.Silent, ", "))
	}
}
