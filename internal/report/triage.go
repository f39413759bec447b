package report

import (
	"fmt"
	"io"
	"strconv"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/triage"
)

const (
	// Few is how many findings are printed without a summary of their causes.
	Few = 10
	// Foremost is how many are printed of more: the worst of each of the causes that come first.
	Foremost = 10
	// maxGroupRows bounds the summary.
	maxGroupRows = 20
)

// foremost returns the worst finding of each of the first groups.
func foremost(groups []*triage.Group) []*finding.Finding {
	var out []*finding.Finding
	for _, g := range groups[:min(len(groups), Foremost)] {
		out = append(out, g.Lead)
	}
	return out
}

// First returns the finding that text output shows first: the worst one of the first cause.
func First(list []*finding.Finding) *finding.Finding {
	return triage.Groups(list, triage.Cause)[0].Lead
}

// GroupTable writes a line or more for each group of findings: how bad it is, how many findings mending it would end, and what it is.
func GroupTable(out io.Writer, groups []*triage.Group, total int, s Style) {
	named(out, s, func(out io.Writer, s Style) { groupTable(out, groups, total, s) })
}

func groupTable(out io.Writer, groups []*triage.Group, total int, s Style) {
	row := func(severity, findings, holders, scopes, key, what string) {
		lead := fmt.Sprintf("%-8s  %8s  %7s  %8s  %-12s  ", severity, findings, holders, scopes, key)
		wrapped(out, lead, len(lead), s.width(), what)
	}
	row("SEVERITY", "FINDINGS", "HOLDERS", "REQUESTS", "GROUP", "WHAT ONE CHANGE WOULD END")
	for _, g := range groups {
		what := s.prose(g.Title)
		if at := groupPlace(g); at != "" {
			what += " (" + s.prose(at) + ")"
		}
		number := func(n int) string {
			if n == 0 {
				return "-"
			}
			return strconv.Itoa(n)
		}
		row(g.Severity.String(), strconv.Itoa(g.Findings), number(g.Holders), number(g.Scopes), g.Key, what)
	}
	if more := total - len(groups); more > 0 {
		fmt.Fprintf(out, "and %s\n", finding.Count(int64(more), "more group", "more groups"))
	}
}

// groupPlace returns where what a group's findings are about is registered, "" where that is not known.
func groupPlace(g *triage.Group) string {
	if g.Of == nil {
		return ""
	}
	return g.Of.Place()
}

// causes writes the summary of many findings and the foremost of them.
func causes(out io.Writer, list []*finding.Finding, s Style, write func([]*finding.Finding)) {
	groups := triage.Groups(list, triage.Cause)
	groupTable(out, groups[:min(len(groups), maxGroupRows)], len(groups), s)
	some := foremost(groups)
	fmt.Fprintf(out, "\n%s\n\n", s.paint(bold, heading(len(some), len(groups))))
	write(some)
	if left := len(list) - len(some); left > 0 {
		fmt.Fprintf(out, "%s not printed; --all prints them.\n", finding.Count(int64(left), "other finding is", "other findings are"))
	}
}

func heading(shown, groups int) string {
	if shown == groups {
		return "The worst finding of each"
	}
	return fmt.Sprintf("The worst finding of each of the first %d", shown)
}
