package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Keys writes which of several answers.
func Keys(out io.Writer, v views.KeysView, s Style) {
	named(out, s, func(out io.Writer, s Style) { keys(out, v, s) })
}

func keys(out io.Writer, v views.KeysView, s Style) {
	rows := [][]string{}
	for n := range v.Keys {
		k := &v.Keys[n]
		registered, answered := []string{}, []string{}
		for _, r := range k.Registered {
			text := s.impl(&r.Of)
			if r.Answers && len(k.Registered) > 1 {
				text = "→" + text
			}
			registered = append(registered, text)
		}
		for _, a := range k.Answers {
			text := fmt.Sprintf("%s ×%s", s.impl(&a.Of), finding.Number(a.Count))
			if a.Other {
				text += " of " + s.whole(&a.Of)
			}
			answered = append(answered, text)
		}
		who := []string{}
		for _, a := range k.AskedBy[:min(3, len(k.AskedBy))] {
			who = append(who, s.who(&a))
		}
		key := "-"
		if k.Key != nil {
			key = Clean(*k.Key)
		}
		state := map[string]string{"answered": "answered", "missing": "! missing", "never asked": "· never asked", "answered by another key": "≠ other key"}[k.State]
		if k.Missing > 0 {
			state += " ×" + finding.Number(k.Missing)
		}
		rows = append(rows, []string{
			s.typeName(k.Service), key, dash(strings.Join(registered, ", ")), finding.Number(k.Asked), state, dash(strings.Join(answered, ", ")), dash(strings.Join(who, ", ")),
		})
	}
	if len(rows) == 0 {
		fmt.Fprintln(out, "No service has a key, or several registrations; --all shows the others.")
		return
	}
	FitTable(out, s, []string{"service", "key", "registered", "asked", "state", "answered with", "asked by"}, rows, []int{0, 2, 5, 6}, 3)
	more(out, len(rows), v.Total)
}
