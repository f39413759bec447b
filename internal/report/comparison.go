package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Comparison writes two recordings side by side.
func Comparison(out io.Writer, c views.Comparison, s Style) {
	named(out, s, func(out io.Writer, s Style) { comparison(out, c, s) })
}

func comparison(out io.Writer, c views.Comparison, s Style) {
	side := func(letter string, x *views.Side) {
		part := ""
		if x.Part != "" {
			part = ", " + strings.TrimPrefix(x.Part, "version=")
		}
		fmt.Fprintf(out, "%s  %s%s: %s, %s, %s\n", letter, Clean(x.Recording), Clean(part), Clean(strings.TrimSpace(x.App+" "+x.Version)),
			finding.Count(x.Scopes, "scope", "scopes"), finding.Count(int64(x.Findings), "finding", "findings"))
	}
	side("A", &c.A)
	side("B", &c.B)
	findings := func(title, sign string, list []*finding.Finding, all int) {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, fmt.Sprintf("%s: %d", title, all)))
		for _, f := range list {
			fmt.Fprintf(out, "  %s %s %-7s  %s\n", sign, f.ID, f.Severity, Shorten(s.prose(f.Title), max(40, s.width()-24)))
		}
	}
	findings("new findings", "+", c.New, c.Totals.New)
	findings("gone", "-", c.Gone, c.Totals.Gone)
	findings("still there", "=", c.Still, c.Totals.Still)
	if len(c.Registrations) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "registrations"))
		for _, r := range c.Registrations {
			changes := []string{}
			for _, f := range r.Fields {
				changes = append(changes, fmt.Sprintf("%s %s → %s", f.Name, none(s.prose(f.A)), none(s.prose(f.B))))
			}
			wrapped(out, "  "+map[string]string{"added": "+ added", "removed": "- removed", "changed": "~ changed"}[r.Change], 14, s.width(), strings.TrimSuffix(s.built(&r.Of)+" "+s.place(&r.Of)+": "+strings.Join(changes, "; "), ": "))
		}
	}
	if len(c.Verdicts) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "behaves otherwise"))
		for _, v := range c.Verdicts {
			fmt.Fprintf(out, "  %s: %s → %s\n", s.whole(&v.Of), v.A.As, v.B.As)
		}
	}
	if len(c.Answers) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "answered by another key or implementation"))
		for _, a := range c.Answers {
			site := ""
			if a.Site != "" {
				site = " as " + Clean(a.Site)
			}
			wrapped(out, fmt.Sprintf("  ~ %s asks for %s%s: ", s.typeName(a.Consumer), s.typeName(a.Service), site), 4, s.width(), s.prose(strings.Join(a.A, ", "))+" → "+s.prose(strings.Join(a.B, ", ")))
		}
	}
	if len(c.Costs) > 0 {
		fmt.Fprintf(out, "\n%s\n", s.paint(bold, "for each thousand scopes"))
		rows := [][]string{}
		chance := 0
		shown := slices.DeleteFunc(slices.Clone(c.Costs), func(x views.CostChange) bool {
			if x.Sure == "within chance" {
				chance++
			}
			return x.Sure == "within chance"
		})
		shown = shown[:min(30, len(shown))]
		for n := range shown {
			x := &shown[n]
			show := func(f float64) string { return three(f) }
			what := "instances"
			if x.Figure == "own_ns" {
				what, show = "building", func(f float64) string { return Took(int64(f)) }
			}
			margin := ""
			if x.Margin >= 0 {
				margin = "± " + show(x.Margin)
			}
			rows = append(rows, []string{s.built(&x.Of), dash(x.Name), what, show(x.A), show(x.B), signed(show, x.B-x.A), margin, x.Sure})
		}
		if len(rows) > 0 {
			FitTable(out, s, []string{"  of", "in scopes", "figure", "A", "B", "B - A", "", "how sure"}, inset(rows), []int{0, 1}, 3, 4, 5, 6)
		}
		if chance > 0 {
			fmt.Fprintf(out, "  %s no more than chance would have it.\n", finding.Count(int64(chance), "figure differs", "figures differ"))
		}
	}
}

func signed(show func(float64) string, f float64) string {
	if f < 0 {
		return "-" + show(-f)
	}
	return "+" + show(f)
}
