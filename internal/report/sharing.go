package report

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Board writes which instance each consumer was given in each scope. A cell that is the same as the one to its left
// shows a quotation mark; one that changed is in brackets.
func Board(out io.Writer, b views.Board, s Style) {
	named(out, s, func(out io.Writer, s Style) { board(out, b, s) })
}

func board(out io.Writer, b views.Board, s Style) {
	if len(b.Scopes) == 0 {
		fmt.Fprintln(out, "No scope fits.")
		return
	}
	if b.Name != "" {
		fmt.Fprintf(out, "the last %s named %s\n\n", finding.Count(int64(len(b.Scopes)), "scope", "scopes"), Clean(b.Name))
	}
	if len(b.Rows) == 0 {
		fmt.Fprintln(out, "Nothing was seen to be given to anybody in them.")
		return
	}
	head := []string{"given", "to", "behaved as"}
	for _, sc := range b.Scopes {
		head = append(head, fmt.Sprint(sc.ID))
	}
	rows := [][]string{}
	for n := range b.Rows {
		r := &b.Rows[n]
		path := make([]string, len(r.Path))
		for n, name := range r.Path {
			path[n] = s.typeName(name)
		}
		to := strings.Join(path, " › ")
		if r.Site != "" {
			to += " . " + Clean(r.Site)
		}
		cells := []string{s.whole(&r.Of), to, verdict(r.Observed.As, r.Observed.Agrees)}
		for _, c := range r.Cells {
			cells = append(cells, boardCell(c))
		}
		rows = append(rows, cells)
	}
	// What does not fit beside each other goes below.
	per := max(1, (s.width()-70)/10)
	if s.Wide {
		per = len(b.Scopes)
	}
	for from := 0; from < len(b.Scopes); from += per {
		to := min(from+per, len(b.Scopes))
		pick := func(row []string) []string { return append(slices.Clone(row[:3]), row[3+from:3+to]...) }
		part := [][]string{}
		for _, row := range rows {
			part = append(part, pick(row))
		}
		if from > 0 {
			fmt.Fprintln(out)
		}
		FitTable(out, s, pick(head), part, []int{0, 1})
	}
	more(out, len(b.Rows), b.Total)
	fmt.Fprintln(out, "\n  \" the same as to the left, [mark] changed, ^ built outside the scope, - not given there; ≠ not as registered")
}

func boardCell(c views.BoardCell) string {
	if len(c.Marks) == 0 {
		return "-"
	}
	text := strings.Join(c.Marks[:min(2, len(c.Marks))], "+")
	if len(c.Marks) > 2 {
		text += fmt.Sprintf("+%d", len(c.Marks)-2)
	}
	if c.Shared {
		text = "^" + text
	}
	switch c.Change {
	case "same":
		return "\""
	case "changed":
		return "[" + text + "]"
	}
	return text
}
