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
	roots := int64(0)
	for _, sc := range b.Scopes {
		if sc.Root {
			roots++
		}
	}
	switch n := int64(len(b.Scopes)) - roots; {
	case n == 0:
		fmt.Fprint(out, "the root: no other scope was opened\n\n")
	case b.Name != "" && roots > 0:
		fmt.Fprintf(out, "the root, and the last %s named %s\n\n", finding.Count(n, "scope", "scopes"), Clean(b.Name))
	case b.Name != "":
		fmt.Fprintf(out, "the last %s named %s\n\n", finding.Count(n, "scope", "scopes"), Clean(b.Name))
	}
	if len(b.Rows) == 0 {
		fmt.Fprintln(out, "No hand-out was seen in them.")
		return
	}
	head := []string{"given", "to", "behaved as"}
	for _, sc := range b.Scopes {
		head = append(head, columnOf(&sc))
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
		given := s.whole(&r.Of)
		if r.All {
			given = "all of " + given
		}
		cells := []string{given, to, verdict(r.Observed.As, r.Observed.Agrees)}
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
	fmt.Fprintln(out, "\n  \" the same as to the left, [mark] changed, ^ built outside the scope, ~ kept by an instance from an earlier scope,\n  - not given there, ∅ an empty list; ≠ not as registered")
	holders(out, &b, s)
}

// maxHolderRows is up to how many rows a board also says who holds which instance.
const maxHolderRows = 16

// holders says who holds which instance, where there are few enough rows to compare them.
func holders(out io.Writer, b *views.Board, s Style) {
	if len(b.Rows) > maxHolderRows || len(b.Held) == 0 {
		return
	}
	fmt.Fprintf(out, "\n%s\n", s.paint(bold, "who holds which"))
	for _, h := range b.Held[:min(len(b.Held), 2*maxHolderRows)] {
		by := make([]string, len(h.By))
		for n := range h.By {
			by[n] = s.typeName(h.By[n])
		}
		wrapped(out, fmt.Sprintf("  %s %s: ", s.whole(&h.Of), h.Mark), 4, s.width(), fmt.Sprintf("%s, in %s", strings.Join(by, ", "), finding.Count(int64(h.Scopes), "scope", "scopes")))
	}
}

// columnOf heads the column of a scope.
func columnOf(sc *views.ScopeRow) string {
	if sc.Root && sc.ID == 0 {
		return views.RootName
	}
	return fmt.Sprint(sc.ID)
}

func boardCell(c views.BoardCell) string {
	if len(c.Marks) == 0 {
		return map[bool]string{true: "∅", false: "-"}[c.Empty]
	}
	text := strings.Join(c.Marks[:min(2, len(c.Marks))], "+")
	if len(c.Marks) > 2 {
		text += fmt.Sprintf("+%d", len(c.Marks)-2)
	}
	switch {
	case c.Kept:
		text = "~" + text
	case c.Shared:
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
