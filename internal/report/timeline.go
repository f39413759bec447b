package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// The columns of a timeline's labels and of its drawing.
const (
	labelColumns = 34
	maxDrawn     = 120
)

// Timeline draws one example in time with characters: lives over scopes, uses as ticks, those after the end as ×.
func Timeline(out io.Writer, e finding.Example, s Style) {
	ev := e.Evidence
	if ev == nil || ev.To <= ev.From {
		return
	}
	columns := min(maxDrawn, s.width()-labelColumns-2)
	at := func(t int64) int {
		return int(min(max(float64(t-ev.From)/float64(ev.To-ev.From), 0), 1) * float64(columns-1))
	}
	line := func(label string, cells []rune) {
		label = Shorten(Clean(label), labelColumns)
		fmt.Fprintf(out, "%s%s  %s\n", label, strings.Repeat(" ", labelColumns-len([]rune(label))), strings.TrimRight(string(cells), " "))
	}
	blank := func() []rune { return []rune(strings.Repeat(" ", columns)) }
	for _, b := range ev.Scopes {
		cells := blank()
		from, to := at(b.Opened), columns-1
		if b.Closed != nil {
			to = at(*b.Closed)
		}
		for n := from; n <= to; n++ {
			cells[n] = '░'
		}
		cells[from] = '['
		if b.Closed != nil {
			cells[to] = ']'
			if to == from {
				cells[to] = '▯'
			}
		}
		line(fmt.Sprintf("scope %d %s", b.Scope, b.Name), cells)
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
		line(fmt.Sprintf("%s %s (%s)", l.Mark, l.Of.Name(), l.Role), cells)
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
		fmt.Fprintf(out, "; %s not drawn", Count(ev.More, "event", "events"))
	}
	fmt.Fprintln(out)
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
