package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func recordings(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "recordings", "recordings [options]", "Lists the recordings of a service, newest first.", "keenlantern recordings --limit 10")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	limit := f.Int("limit", 50, "list `N` recordings, at most 500")
	offset := f.Int("offset", 0, "skip the `N` newest recordings")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	list, err := ask(*server).Recordings(ctx, *limit, *offset)
	if err != nil {
		return err
	}
	if *format == "json" {
		return report.JSON(std.Out, list)
	}
	if len(list.Recordings) == 0 {
		fmt.Fprintln(std.Out, "No recordings yet. 'keenlantern demo' makes two; 'keenlantern import FILE' takes a trace.")
		return nil
	}
	rows := [][]string{}
	for _, r := range list.Recordings {
		name := report.Clean(r.Name)
		if r.Pinned {
			name = strings.TrimSpace("pinned " + name)
		}
		rows = append(rows, []string{
			r.ID, name, report.Clean(r.App), report.Clean(r.Version), stateOf(&r), localTime(r.Start), report.Took(r.LastedNS),
			finding.Number(r.Figures.Scopes), finding.Number(r.Figures.Events), tally(r.Findings), overallHealth(&r.Health),
		})
	}
	report.FitTable(std.Out, std.style(), []string{"RECORDING", "NAME", "APPLICATION", "VERSION", "STATE", "BEGAN", "LASTED", "SCOPES", "EVENTS", "FOUND", "HEALTH"}, rows, []int{1, 2}, 6, 7, 8)
	if more := list.Total - len(list.Recordings) - *offset; more > 0 {
		fmt.Fprintf(std.Out, "and %s; see --offset\n", finding.Count(int64(more), "older one", "older ones"))
	}
	return nil
}

func tally(t views.Tally) string {
	var parts []string
	for _, p := range []struct {
		n         int
		one, many string
	}{{t.Error, "error", "errors"}, {t.Warning, "warning", "warnings"}, {t.Note, "note", "notes"}, {t.Accepted, "accepted", "accepted"}} {
		if p.n > 0 {
			parts = append(parts, finding.Count(int64(p.n), p.one, p.many))
		}
	}
	if len(parts) == 0 {
		return "nothing"
	}
	return strings.Join(parts, ", ")
}

// stateOf returns how a recording is, and what is being done with it.
func stateOf(s *views.Summary) string {
	if s.Stale > 0 {
		return s.State + ", being reanalysed"
	}
	return s.State
}

func overallHealth(h *views.Overall) string {
	if h.Whole {
		return "complete"
	}
	var parts []string
	for _, p := range []struct {
		n    int64
		what string
	}{{h.Refused, "refused"}, {h.UnknownKinds, "of unknown kind"}, {h.Unresolved, "unresolved"}, {h.Lost, "lost"}, {int64(h.CutOff), "cut off"}, {int64(h.Broken), "broken off"}, {h.NamesOver, "names over"}, {h.Flattened, "nested too deeply"}, {h.Abandoned, "searches given up"}} {
		if p.n > 0 {
			parts = append(parts, finding.Number(p.n)+" "+p.what)
		}
	}
	if h.Sampled < 1 {
		parts = append(parts, fmt.Sprintf("%.0f %% sampled", 100*h.Sampled))
	}
	return strings.Join(parts, ", ")
}

func localTime(text string) string {
	t, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05")
}
