package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/finding"
)

// FitTable is Table in no more columns than s has: the cells of the flexible columns are shortened in the middle, the
// longest first, unless the style is Wide.
func FitTable(out io.Writer, s Style, head []string, rows [][]string, flexible []int, numeric ...int) {
	head, rows, flexible, numeric = filled(head, rows, flexible, numeric)
	if !s.Wide {
		rows = fit(s.width(), head, rows, flexible)
	}
	Table(out, head, rows, numeric...)
}

// filled leaves out the columns in which no row says anything, the first apart.
func filled(head []string, rows [][]string, flexible, numeric []int) ([]string, [][]string, []int, []int) {
	var keep []int
	for n := range head {
		if n == 0 || slices.ContainsFunc(rows, func(row []string) bool { return row[n] != "-" && row[n] != "" }) {
			keep = append(keep, n)
		}
	}
	pick := func(row []string) []string {
		out := make([]string, len(keep))
		for at, n := range keep {
			out[at] = row[n]
		}
		return out
	}
	moved := func(list []int) (out []int) {
		for _, n := range list {
			if at := slices.Index(keep, n); at >= 0 {
				out = append(out, at)
			}
		}
		return out
	}
	out := make([][]string, len(rows))
	for n := range rows {
		out[n] = pick(rows[n])
	}
	return pick(head), out, moved(flexible), moved(numeric)
}

// leastCell is the narrowest that a flexible column becomes.
const leastCell = 9

func fit(width int, head []string, rows [][]string, flexible []int) [][]string {
	wide := make([]int, len(head))
	total := 2 * (len(head) - 1)
	for n := range head {
		wide[n] = columns.StringWidth(head[n])
		for _, row := range rows {
			wide[n] = max(wide[n], columns.StringWidth(row[n]))
		}
		total += wide[n]
	}
	for total > width {
		widest := -1
		for _, n := range flexible {
			if wide[n] > max(leastCell, columns.StringWidth(head[n])) && (widest < 0 || wide[n] > wide[widest]) {
				widest = n
			}
		}
		if widest < 0 {
			break
		}
		wide[widest]--
		total--
	}
	out := make([][]string, len(rows))
	for k, row := range rows {
		out[k] = slices.Clone(row)
	}
	for _, n := range flexible {
		for !distinct(rows, out, n, wide[n]) {
			wide[n] += 4 + wide[n]/4
		}
	}
	return out
}

// distinct shortens the cells of a column, and reports whether those that differed still do.
func distinct(rows, out [][]string, column, width int) bool {
	was := make(map[string]string, len(rows))
	same := true
	for k, row := range rows {
		short := Shorten(row[column], width)
		if before, taken := was[short]; taken && before != row[column] {
			same = false
		}
		was[short], out[k][column] = row[column], short
	}
	return same
}

// more says how to see what a page left out.
func more(out io.Writer, shown, total int) {
	if shown < total {
		fmt.Fprintf(out, "%s of %s; --limit and --offset show the rest.\n", finding.Number(int64(shown)), finding.Number(int64(total)))
	}
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return Clean(s)
}

func none(s string) string {
	if s == "" {
		return "none"
	}
	return Clean(s)
}

// verdict is what a lifetime behaved as, with a sign where that is not the lifetime in force.
func verdict(as string, agrees *bool) string {
	switch as {
	case derive.BehavedUnknown:
		as = "unclear"
	case derive.BehavedOnce:
		as = "once in each scope"
	}
	as = strings.TrimPrefix(as, "one ")
	if agrees != nil && !*agrees {
		return "≠ " + as
	}
	return as
}
