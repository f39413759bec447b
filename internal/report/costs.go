package report

import (
	"fmt"
	"io"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Costs writes what building things costs.
func Costs(out io.Writer, v views.CostsView, s Style) {
	named(out, s, func(out io.Writer, s Style) { costs(out, v, s) })
}

func costs(out io.Writer, v views.CostsView, s Style) {
	for n := range v.Names {
		c := &v.Names[n]
		if n > 0 {
			fmt.Fprintln(out)
		}
		title := fmt.Sprintf("%s: %s, %s each, of which building takes %s (%.0f %%)", dash(c.Name), finding.Count(c.Scopes, "scope", "scopes"), Took(c.MeanNS), Took(c.BuiltMeanNS), c.BuiltPercent)
		if c.Kind == "root" && c.Name == "" {
			title = "outside any scope"
		}
		fmt.Fprintln(out, s.paint(bold, title))
		rows := [][]string{}
		for k := range c.Rows {
			r := &c.Rows[k]
			rows = append(rows, []string{
				s.built(&r.Of), dash(r.Of.Lifetime), finding.Number(r.Made), ratio(r.PerScope), Took(r.OwnMeanNS), Took(r.OwnNS), percent(r.Percent), Took(r.MaxNS), Took(r.SavesNS),
			})
		}
		FitTable(out, s, []string{"  instances of", "lifetime", "made", "per scope", "own, each", "own, all", "of the time", "longest", "one would save"}, inset(rows), []int{0}, 2, 3, 4, 5, 6, 7, 8)
		if left := c.RowsTotal - len(c.Rows); left > 0 {
			fmt.Fprintf(out, "  and %s; --name %q lists them\n", finding.Count(int64(left), "more registration", "more registrations"), c.Name)
		}
	}
	more(out, len(v.Names), v.Total)
	if len(v.Unused) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "given and never used"))
		for n := range v.Unused {
			u := &v.Unused[n]
			fmt.Fprintf(out, "  %s to %s, %s\n", s.built(&u.Of), s.whole(u.Consumer), finding.Count(u.Count, "time", "times"))
		}
	}
	if len(v.Names) == 0 {
		fmt.Fprintln(out, "Nothing was seen to be built.")
	}
}

func percent(f float64) string {
	if f == 0 {
		return "-"
	}
	return fmt.Sprintf("%.1f %%", f)
}

func ratio(f float64) string {
	if f == 0 {
		return "-"
	}
	return fmt.Sprintf("%.2g", f)
}
