package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/triage"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func findings(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "findings", "findings RECORDING [options]",
		"Lists what was found in a recording. Of many findings it prints the causes, ordered by how many findings a fix\nends, and the worst finding of each of the first ten; --all prints every finding. --by prints groups only, and\n--group the findings of one of them. RECORDING is an id, the beginning of one, latest, or a trace file, which is\nanalysed here without a service.",
		"keenlantern findings latest --severity warning")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	severity := f.String("severity", "note", "list findings of this `SEVERITY` and worse ones: error, warning or note")
	failOn := f.failOnFlag()
	settings := f.settingsFlag()
	all := f.Bool("all", false, "print every finding")
	by := f.String("by", "", "print groups of findings only, by `WHAT` they have in common: cause, registration, place, rule or scope")
	group := f.String("group", "", "print the findings of the group with this `KEY`; groups are by cause, unless --by is set")
	wide := f.Bool("wide", false, "print names in full")
	words, err := f.parse(args, 1, 1)
	if err != nil {
		return err
	}
	grouping := triage.By(cmp.Or(*by, string(triage.Cause)))
	if !slices.Contains(triage.Groupings, grouping) {
		return &usageError{fmt.Sprintf("--by is %q; it is cause, registration, place, rule or scope", *by)}
	}
	err = errors.Join(oneOf("format", *format, "text", "json"), oneOf("severity", *severity, "error", "warning", "note"),
		oneOf("fail-on", *failOn, "error", "warning", "note", "never"))
	if err != nil {
		return err
	}
	found, err := recordingFindings(ctx, *server, words[0], *severity, *settings)
	if err != nil {
		return err
	}
	style := std.style()
	style.Wide = style.Wide || *wide
	if *group != "" {
		page, err := views.Findings(found.Recording, found.Result, views.FindingQuery{By: grouping, Group: *group})
		if err != nil {
			return err
		}
		found = page
	} else if *by != "" {
		groups := views.Triage(found.Recording, found.Result, views.FindingQuery{By: grouping})
		if *format == "json" {
			err = report.JSON(std.Out, groups)
		} else {
			report.GroupTable(std.Out, groups.Groups, groups.Total, style)
			fmt.Fprintln(std.Out, "\n"+report.Totals(found.Findings)+report.Accepted(found.Result))
		}
		return errors.Join(err, failed(*failOn, found.Findings))
	}
	if *format == "json" {
		if err := report.JSON(std.Out, found); err != nil {
			return err
		}
		return failed(*failOn, found.Findings)
	}
	for n := range found.Streams {
		i := &found.Streams[n]
		app := strings.TrimSpace(i.App + " " + i.Version)
		fmt.Fprintf(std.Out, "%s, stream %s: %s\n", report.Clean(app), report.Clean(i.Stream), report.HealthLine(&i.Health))
	}
	if len(found.Findings) > 0 {
		fmt.Fprintln(std.Out)
		report.FindingTable(std.Out, found.Findings, style, *all || *group != "")
		fmt.Fprintln(std.Out)
	}
	fmt.Fprintln(std.Out, report.Totals(found.Findings)+report.Accepted(found.Result))
	if len(found.Findings) > 0 {
		fmt.Fprintf(std.Out, "'keenlantern finding %s --recording %s' shows the first with its evidence.\n", report.First(found.Findings).ID, found.Recording)
	}
	return failed(*failOn, found.Findings)
}

// recordingFindings asks the service, or analyses name if it is a file.
func recordingFindings(ctx context.Context, server, name, severity, settings string) (views.RecordingFindings, error) {
	if !isFile(name) {
		return ask(server).AllFindings(ctx, name, url.Values{"severity": {severity}})
	}
	set, err := readSettings(settings)
	if err != nil {
		return views.RecordingFindings{}, err
	}
	r, err := analyse(ctx, name, set)
	if err != nil {
		return views.RecordingFindings{}, err
	}
	all := report.Brief(r)
	all.Findings = engine.AtLeast(all.Findings, severity)
	return views.RecordingFindings{Recording: name, Total: len(all.Findings), Accepted: len(all.Accepted), Result: all}, nil
}

// isFile reports whether a text is a path, not a recording's id: it has a character an id cannot have, or is there.
func isFile(name string) bool {
	if strings.ContainsAny(name, `./\`) || name == "-" {
		return true
	}
	info, err := os.Stat(name)
	return err == nil && info.Mode().IsRegular()
}

func oneFinding(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "finding", "finding ID [options]",
		"Shows one finding: what keeps or loses what, why that is wrong, what to change, and the examples. ID is the\nfinding's id or the beginning of it.",
		"keenlantern finding k2v7 --recording latest")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	settings := f.settingsFlag()
	recording := f.String("recording", "latest", "`RECORDING` to look in: an id, latest, or a trace file")
	words, err := f.parse(args, 1, 1)
	if err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	var one views.FindingDetail
	if isFile(*recording) {
		set, err := readSettings(*settings)
		if err != nil {
			return err
		}
		r, err := analyse(ctx, *recording, set)
		if err != nil {
			return err
		}
		found, err := r.Finding(words[0])
		if err != nil {
			return fmt.Errorf("%w in %s", err, *recording)
		}
		one = views.FindingDetail{Recording: *recording, Finding: found}
	} else if one, err = ask(*server).Finding(ctx, *recording, words[0]); err != nil {
		return err
	}
	if *format == "json" {
		return report.JSON(std.Out, one)
	}
	report.Finding(std.Out, one.Finding, std.style())
	return nil
}
