package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
	"keenlantern.example/record"
)

func demo(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "demo", "demo [options]",
		"Starts the service, runs the made-up Saltmarsh harbour pilot office twice under real requests, once sound and\nonce with mistakes, prints what was found, and stays up until interrupted.",
		"keenlantern demo --once --mistake roster-keeps-tides")
	listen, data := serveFlags(f)
	once := f.Bool("once", false, "exit after printing")
	mistake := f.String("mistake", "all", "comma-separated `LIST` of mistakes to make, or all, or none; 'list' prints their names")
	requests := f.Int("requests", 200, "send `N` requests to each version")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	if *mistake == "list" {
		rows := [][]string{}
		for _, m := range harbour.Mistakes {
			rows = append(rows, []string{m.Name, m.Says})
		}
		report.Table(std.Out, []string{"MISTAKE", "WHAT IS DONE"}, rows)
		return nil
	}
	chosen, err := harbour.Choose(*mistake)
	if err != nil {
		return &usageError{err.Error()}
	}
	if *requests < 1 || *requests > 1_000_000 {
		return &usageError{fmt.Sprintf("--requests is %d; it is from 1 to 1000000", *requests)}
	}
	s, err := openServer(ctx, *listen, *data, rules.Default(), serveOptions{}, quiet(std))
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	group, running := errgroup.WithContext(ctx)
	group.Go(func() error { return s.run(running) })
	group.Go(func() error {
		if *once {
			defer end()
		}
		fmt.Fprintf(std.Out, "Keen Lantern listens at %s; data in %s\n", s.url, *data)
		if err := runDemo(running, std, s.url, chosen, *requests); err != nil {
			return err
		}
		fmt.Fprintf(std.Out, "The console: %s\n", s.url)
		if !*once {
			fmt.Fprintln(std.Out, "Ctrl-C ends it.")
		}
		return nil
	})
	if err := group.Wait(); err != nil && !errors.Is(err, context.Canceled) {
		return err
	}
	return nil
}

// runDemo records both versions of the office and prints the results.
func runDemo(ctx context.Context, std IO, server string, mistakes []string, requests int) error {
	versions := []struct {
		name     string
		what     string
		mistakes []string
	}{{"1.4.0", "the sound version", nil}, {"1.5.0", "the version with mistakes", mistakes}}
	for _, v := range versions {
		if v.name != "1.4.0" && len(mistakes) == 0 {
			continue
		}
		fmt.Fprintf(std.Out, "\nThe harbour pilot office %s, %s\n", v.name, v.what)
		totals, recording, err := recordOffice(ctx, server, v.name, v.mistakes, requests)
		if err != nil {
			return err
		}
		found, err := ask(server).AllFindings(ctx, recording.ID, url.Values{})
		if err != nil {
			return err
		}
		fmt.Fprintf(std.Out, "  recording %s: %s answered, %s recorded (%s lost), %s, %s\n\n",
			recording.ID, finding.Count(int64(requests), "request", "requests"), finding.Count(totals.Events, "event", "events"), finding.Number(totals.Lost),
			finding.Count(recording.Figures.Scopes, "scope", "scopes"), finding.Count(recording.Figures.Instances, "instance", "instances"))
		report.FindingList(std.Out, found.Findings, std.style(), true)
		fmt.Fprintln(std.Out, report.Totals(found.Findings))
	}
	fmt.Fprintln(std.Out)
	return nil
}

// recordOffice runs the office once under load and waits until its recording is complete.
func recordOffice(ctx context.Context, server, version string, mistakes []string, requests int) (record.Totals, views.RecordingDetail, error) {
	none := views.RecordingDetail{}
	rec, err := record.Start(record.Config{
		App: "harbour-office", Version: version, Environment: "production", Service: server,
	})
	if err != nil {
		return record.Totals{}, none, err
	}
	stream := rec.Stream()
	office, err := harbour.Start(rec, mistakes)
	if err != nil {
		return record.Totals{}, none, errors.Join(err, rec.Close(ctx))
	}
	err = harbour.Work(ctx, office, requests, 4, 15*time.Millisecond)
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	if err = errors.Join(err, office.Close(end), rec.Close(end)); err != nil {
		return record.Totals{}, none, fmt.Errorf("run the harbour office: %w", err)
	}
	totals := rec.Totals()
	// Delivered is stored; what was found follows a moment later.
	for {
		list, err := ask(server).Recordings(ctx, 50, 0)
		if err != nil {
			return totals, none, err
		}
		for _, r := range list.Recordings {
			if r.App != "harbour-office" || r.Version != version || r.State == "running" {
				continue
			}
			detail, err := ask(server).Recording(ctx, r.ID)
			if err != nil {
				return totals, none, err
			}
			for _, s := range detail.StreamList {
				if s.Stream == stream && s.Ended {
					return totals, detail, nil
				}
			}
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return totals, none, ctx.Err()
		}
	}
}
