package report

import (
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/replay"
)

// WhatIf writes what would be different with other lifetimes.
func WhatIf(out io.Writer, a *replay.Answer, s Style) {
	named(out, s, func(out io.Writer, s Style) { whatIf(out, a, s) })
}

func whatIf(out io.Writer, a *replay.Answer, s Style) {
	for n := range a.Changes {
		c := &a.Changes[n]
		fmt.Fprintf(out, "%s: %s instead of %s\n", s.paint(bold, s.whole(&c.Of)), Clean(c.To), Clean(c.From))
	}
	fmt.Fprintf(out, "\n%s\n%s\n", changeOf("instances", a.Instances, finding.Number), changeOf("construction", a.Construction, Took))
	if a.Bytes.Now+a.Bytes.Then > 0 {
		fmt.Fprintln(out, changeOf("bytes made", a.Bytes, finding.Number))
	}
	if len(a.Registrations) > 0 {
		fmt.Fprintln(out)
		rows := [][]string{}
		for n := range a.Registrations {
			r := &a.Registrations[n]
			rows = append(rows, []string{
				s.whole(&r.Of), finding.Number(r.Made.Now), finding.Number(r.Made.Then), finding.Number(r.Most.Now), finding.Number(r.Most.Then),
				Took(r.Construction.Now), Took(r.Construction.Then),
			})
		}
		Table(out, []string{"registration", "made", "then", "alive at once", "then", "construction", "then"}, rows)
	}
	if len(a.Scopes) > 0 {
		fmt.Fprintln(out)
		rows := [][]string{}
		for n := range a.Scopes {
			c := &a.Scopes[n]
			rows = append(rows, []string{
				Clean(c.Name), finding.Number(c.Scopes), Took(c.Median.Now), Took(c.Median.Then), Took(c.P95.Now), Took(c.P95.Then), share(c.Share),
			})
		}
		Table(out, []string{"building in scope", "scopes", "median", "then", "95 %", "then", "of its time"}, rows)
	}
	listed := func(label string, list []*finding.Finding) {
		if len(list) == 0 {
			return
		}
		fmt.Fprintf(out, "\n%s\n", label)
		for _, f := range list {
			wrapped(out, "  "+s.paint(severityColours[f.Severity], f.Severity.String()), 11, s.width(), Clean(f.Title)+" ("+f.Rule+" "+f.ID+")")
		}
	}
	listed("Findings that would appear:", a.Appear)
	listed("Findings that would go:", a.Go)
	if len(a.Appear)+len(a.Go) == 0 {
		fmt.Fprintln(out, "\nNo finding would appear or go.")
	}
	if len(a.Refused) > 0 {
		fmt.Fprintln(out, "\nA container that validates lifetimes would refuse:")
		for _, r := range a.Refused {
			names := make([]string, len(r.Path))
			for n := range r.Path {
				names[n] = r.Path[n].Name() + " (" + dash(r.Path[n].Lifetime) + ")"
			}
			wrapped(out, "  -", 4, s.width(), Clean(strings.Join(names, " → ")))
		}
	}
	fmt.Fprintln(out, "\nWhat the recording does not show:")
	for _, u := range a.Unknown {
		wrapped(out, "  -", 4, s.width(), Clean(u))
	}
}

// changeOf returns how much a figure would change.
func changeOf(what string, c replay.Counts, write func(int64) string) string {
	switch {
	case c.Now == c.Then:
		return fmt.Sprintf("%s: %s, as now", what, write(c.Now))
	case c.Then < c.Now:
		return fmt.Sprintf("%s: %s instead of %s (%.3g %% less)", what, write(c.Then), write(c.Now), 100*float64(c.Now-c.Then)/float64(c.Now))
	case c.Now == 0:
		return fmt.Sprintf("%s: %s instead of none", what, write(c.Then))
	}
	return fmt.Sprintf("%s: %s instead of %s (%.3g %% more)", what, write(c.Then), write(c.Now), 100*float64(c.Then-c.Now)/float64(c.Now))
}

func share(saved float64) string {
	switch {
	case saved > 0.0005:
		return fmt.Sprintf("%.1f %% saved", 100*saved)
	case saved < -0.0005:
		return fmt.Sprintf("%.1f %% added", -100*saved)
	}
	return "-"
}

func sets(changes []replay.Changed) string {
	text := ""
	for n := range changes {
		text += " --set '" + Clean(changes[n].Set) + "'"
	}
	return text
}

// Proposals writes changes that are worth making, each with its command.
func Proposals(out io.Writer, p *replay.Proposals, s Style) {
	if len(p.Proposals) == 0 {
		fmt.Fprintf(out, "Of %s that were tried, none would save construction time or end a finding without a new one.\n", finding.Count(int64(p.Tried), "change", "changes"))
		return
	}
	for n := range p.Proposals {
		c := &p.Proposals[n]
		fmt.Fprintf(out, "%s\n", s.paint(bold, "keenlantern whatif "+Clean(p.Recording)+sets(c.Changes)))
		wrapped(out, "  ", 2, s.width(), changeOf("instances", c.Instances, finding.Number)+"; "+changeOf("construction", c.Construction, Took))
		if c.Longer {
			wrapped(out, "  ", 2, s.width(), "instances would be shared for longer: their code has to bear that")
		}
		for _, f := range c.Go {
			wrapped(out, "  ends", 8, s.width(), Clean(f.Title)+" ("+f.Rule+" "+f.ID+")")
		}
	}
	fmt.Fprintf(out, "\n%s tried; none of these brings a new finding.\n", finding.Count(int64(p.Tried), "change was", "changes were"))
}
