package report

import (
	"fmt"
	"io"
	"math"
	"slices"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Spark draws a series in so many columns.
func Spark(series []int64, columns int) string {
	if len(series) == 0 {
		return ""
	}
	most := int64(1)
	for _, v := range series {
		most = max(most, v)
	}
	columns = min(columns, len(series))
	line := make([]rune, columns)
	for n := range line {
		part := series[n*len(series)/columns : max(n*len(series)/columns+1, (n+1)*len(series)/columns)]
		v := slices.Max(part)
		line[n] = sparks[min(int64(len(sparks)-1), max(0, v)*int64(len(sparks))/(most+1))]
	}
	return string(line)
}

// Disposal writes whether things are released.
func Disposal(out io.Writer, v views.DisposalView, s Style) {
	named(out, s, func(out io.Writer, s Style) { disposal(out, v, s) })
}

func disposal(out io.Writer, v views.DisposalView, s Style) {
	if !v.Seen.Disposals {
		fmt.Fprintln(out, "The recorder does not see disposals: what follows is about homes that closed.")
	}
	rows := [][]string{}
	for n := range v.Alive {
		a := &v.Alive[n]
		rows = append(rows, []string{s.built(&a.Of), dash(a.Of.Lifetime), finding.Number(a.Made), finding.Number(a.Alive), finding.Number(a.Most), slope(a.SlopePerThousand), Spark(a.Peaks, 32)})
	}
	fmt.Fprintln(out, s.paint(bold, "alive over time"))
	if len(rows) > 0 {
		FitTable(out, s, []string{"  instances of", "lifetime", "made", "alive", "most", "per 1000 scopes", "over time"}, inset(rows), []int{0}, 2, 3, 4, 5)
	}
	more(out, len(rows), v.Total)
	if v.OpenCount > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, finding.Count(v.OpenCount, "scope is open", "scopes are open")))
		for _, o := range v.Open[:min(8, len(v.Open))] {
			fmt.Fprintf(out, "  %s %s, open for %s\n", ScopeID(o.Stream, o.ID), dash(o.Name), Took(o.TookNS))
		}
	}
	if len(v.Undone) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "not disposed"))
		rows := [][]string{}
		for n := range v.Undone {
			u := &v.Undone[n]
			rows = append(rows, []string{s.built(&u.Of), dash(u.Of.Lifetime), u.Disposer, finding.Number(u.Ended), finding.Number(u.Alive), s.place(&u.Of)})
		}
		FitTable(out, s, []string{"  instances of", "lifetime", "whose task it is", "ended", "alive", "place"}, inset(rows), []int{0, 5}, 3, 4)
	}
	for n := range v.Closings[:min(3, len(v.Closings))] {
		closing(out, &v.Closings[n], s)
	}
	if v.Shutdown != nil {
		closing(out, v.Shutdown, s)
	}
}

func closing(out io.Writer, c *views.Closing, s Style) {
	what := "the closing of " + dash(c.Name)
	if c.Kind != "root" {
		what += fmt.Sprintf(" (%s %d)", dash(c.Kind), c.Scope)
	}
	fmt.Fprintf(out, "\n%s, %s\n", s.paint(bold, what), Took(c.TookNS))
	rows := [][]string{}
	for _, step := range c.Steps[:min(24, len(c.Steps))] {
		state := step.State
		if state == "begun" {
			state = "begun, not done"
		}
		rows = append(rows, []string{s.built(&step.Of), step.Mark, Took(step.At), Took(step.NS), Clean(state), Clean(step.By)})
	}
	FitTable(out, s, []string{"  instance of", "mark", "at", "took", "state", "by"}, inset(rows), []int{0}, 2, 3)
	if len(c.Steps) > 24 {
		fmt.Fprintf(out, "  and %s\n", finding.Count(int64(len(c.Steps)-24), "more", "more"))
	}
}

func slope(f *float64) string {
	switch {
	case f == nil:
		return "-"
	case math.Abs(*f) < 0.5:
		return "0"
	}
	return fmt.Sprintf("%+.0f", *f)
}

var sparks = []rune("▁▂▃▄▅▆▇█")
