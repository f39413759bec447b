package report

import (
	"fmt"
	"io"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// Applications writes who could record, who does, and what was ordered.
func Applications(out io.Writer, list []views.Application, s Style) {
	if len(list) == 0 {
		fmt.Fprintln(out, "No application's recorder asks this service. Start one with record.Config.Service set to its address.")
		return
	}
	for n, a := range list {
		if n > 0 {
			fmt.Fprintln(out)
		}
		fmt.Fprintf(out, "%s: %s\n", s.paint(bold, Clean(a.Name)), ordered(&a.Order))
		rows := [][]string{}
		for _, r := range a.Recorders {
			state := "off"
			if r.On {
				state = "recording"
				if r.Share > 0 && r.Share < 1 {
					state += fmt.Sprintf(" %.3g %%", 100*r.Share)
				}
			}
			follows := "yes"
			if r.Knows != a.Order.Version {
				follows = "not yet"
			}
			rows = append(rows, []string{Shorten(Clean(r.ID), 13), dash(r.Version), dash(r.Environment), state, finding.Number(r.Events), finding.Number(r.Lost), follows})
		}
		if len(rows) == 0 {
			fmt.Fprintln(out, "  no recorder has asked recently")
			continue
		}
		FitTable(out, s, []string{"  recorder", "version", "environment", "state", "events", "lost", "follows"}, inset(rows), []int{1, 2}, 4, 5)
	}
}

func ordered(o *views.Order) string {
	switch {
	case o.Version == 0:
		return "nothing ordered; its recorders do as they were configured"
	case !o.On:
		return "ordered off"
	}
	text := "ordered on"
	if o.Share > 0 {
		text += fmt.Sprintf(", %.3g %% of the scopes", 100*o.Share)
	}
	if o.ForNS > 0 {
		text += ", for another " + Took(o.ForNS)
	}
	if o.Bytes > 0 {
		text += ", " + finding.Number(o.Bytes) + " bytes from each"
	}
	return text
}
