package report

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// The columns of a timeline's labels and of its drawing.
const (
	labelColumns = 34
	maxDrawn     = 120
)

// timeline draws one example in time with characters: lives over scopes, uses as ticks, those after the end as ×. The
// stretches between what happened are evened out, so that a short request and the quiet behind it can both be seen.
func timeline(out io.Writer, e finding.Example, s Style) {
	ev := e.Evidence
	if ev == nil || ev.To <= ev.From {
		return
	}
	columns := min(maxDrawn, s.width()-labelColumns-2)
	at := evened(ev, columns)
	line := func(label string, cells []rune) {
		label = Shorten(Clean(label), labelColumns)
		fmt.Fprintf(out, "%s%s  %s\n", label, strings.Repeat(" ", labelColumns-len([]rune(label))), strings.TrimRight(string(cells), " "))
	}
	blank := func() []rune { return []rune(strings.Repeat(" ", columns)) }
	for n, row := range packed(ev.Scopes, at, columns) {
		line(map[bool]string{true: "scopes", false: ""}[n == 0], row)
	}
	for _, l := range ev.Lives {
		cells := blank()
		from, to := at(l.Made), columns-1
		if l.Ended != nil {
			to = at(*l.Ended)
		}
		for n := from; n <= to; n++ {
			cells[n] = '━'
		}
		cells[from] = '●'
		cells[to] = map[string]rune{"disposed": '┫', "forgotten": '╌', "home closed": '⌇', "alive": '▶'}[l.End]
		if to == from {
			cells[to] = '●'
		}
		line(fmt.Sprintf("%s %s (%s)", l.Mark, s.whole(&l.Of), l.Role), cells)
		ticks := blank()
		some := false
		for _, u := range ev.Uses {
			if u.Instance != l.Instance {
				continue
			}
			some = true
			switch n := at(u.At); {
			case u.After && u.Kind == "use":
				ticks[n] = '×'
			case ticks[n] == '×':
			case u.Kind == "use":
				ticks[n] = '|'
			case ticks[n] == ' ':
				ticks[n] = '·'
			}
		}
		if some {
			line("", ticks)
		}
	}
	fmt.Fprintf(out, "%s  %s to %s after the start; ● made, ┫ disposed, ⌇ its scope closed, ▶ alive,\n", strings.Repeat(" ", labelColumns), Took(ev.From), Took(ev.To))
	fmt.Fprintf(out, "%s  | used, · handed out, × used after its end", strings.Repeat(" ", labelColumns))
	if ev.More > 0 {
		fmt.Fprintf(out, "; %s not drawn", finding.Count(ev.More, "event", "events"))
	}
	fmt.Fprintln(out)
}

// evened returns where a time is in a drawing of so many columns.
func evened(ev *finding.Evidence, columns int) func(t int64) int {
	points := []int64{ev.From, ev.To}
	for _, b := range ev.Scopes {
		points = append(points, b.Opened)
		if b.Closed != nil {
			points = append(points, *b.Closed)
		}
	}
	for _, l := range ev.Lives {
		points = append(points, l.Made)
		if l.Ended != nil {
			points = append(points, *l.Ended)
		}
	}
	for _, u := range ev.Uses {
		points = append(points, u.At)
	}
	slices.Sort(points)
	points = slices.Compact(points)
	place := make([]float64, len(points))
	for n := 1; n < len(points); n++ {
		gap := float64(points[n]-points[n-1]) / float64(ev.To-ev.From)
		place[n] = place[n-1] + 1 + math.Log2(1+gap*256)
	}
	whole := place[len(place)-1]
	return func(t int64) int {
		n, _ := slices.BinarySearch(points, t)
		n = min(n, len(points)-1)
		return int(place[n] / whole * float64(columns-1))
	}
}

// packed draws scopes in as few rows as they do not overlap in, each with its number where there is room.
func packed(scopes []finding.Band, at func(int64) int, columns int) [][]rune {
	var rows [][]rune
	var free []int // the first column that is free in each row
	for _, b := range scopes {
		from, to := at(b.Opened), columns-1
		if b.Closed != nil {
			to = max(at(*b.Closed), from+1)
		}
		to = min(to, columns-1)
		n := 0
		for n < len(free) && free[n] > from {
			n++
		}
		if n == len(free) {
			free = append(free, 0)
			rows = append(rows, []rune(strings.Repeat(" ", columns)))
		}
		free[n] = to + 1
		row := rows[n]
		for c := from; c <= to; c++ {
			row[c] = '░'
		}
		row[from] = '['
		if b.Closed != nil {
			row[to] = ']'
		}
		text := fmt.Sprint(b.Scope)
		if full := text + " " + Clean(b.Name); to-from > len([]rune(full)) {
			text = full
		}
		if to-from > len(text) {
			copy(row[from+1:to], []rune(text))
		}
	}
	return rows
}

// Rule writes what a rule is.
func Rule(out io.Writer, id, severity, basis, reports, not string, needs []string, s Style) {
	fmt.Fprintf(out, "%s  %s, %s\n", s.paint(bold, id), severity, basis)
	wrapped(out, "  reports", indent+2, s.width(), reports)
	wrapped(out, "  not", indent+2, s.width(), not)
	if len(needs) > 0 {
		wrapped(out, "  needs", indent+2, s.width(), "a recorder that sees "+strings.Join(needs, ", "))
	}
}
