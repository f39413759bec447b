package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func sharing(ctx context.Context, std IO, args []string) error {
	v := newView(std, "sharing", "sharing RECORDING [options]",
		"Shows which instance each consumer was given in one scope after the other: is it the same object? Each instance\nhas a mark, the same wherever the instance is the same.",
		"keenlantern sharing testdata/office.ndjson --name 'GET /berths' --last 6")
	var q views.SharingQuery
	name := v.String("name", "", "scopes with this `NAME` (default: the most frequent name)")
	v.IntVar(&q.Last, "last", views.DefaultBoardScopes, "number `N` of most recent scopes")
	list := v.String("scopes", "", "comma-separated `LIST` of scope ids; overrides --last")
	v.StringVar(&q.Consumer, "consumer", "", "only what consumers were given whose names contain this `TEXT`")
	v.IntVar(&q.Depth, "depth", views.DefaultBoardDepth, "unfold `N` levels below the entry point")
	v.IntVar(&q.Stream, "stream", 0, "number `N` of the stream, from 0, where there are several")
	v.rows(100)
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	if q.Last < 1 || q.Last > views.MaxBoardScopes || q.Depth < 1 || q.Depth > views.MaxBoardDepth || q.Stream < 0 {
		return &usageError{fmt.Sprintf("--last is from 1 to %d, --depth from 1 to %d, --stream from 0", views.MaxBoardScopes, views.MaxBoardDepth)}
	}
	p := v.query()
	if *list != "" {
		for _, word := range strings.Split(*list, ",") {
			_, id, err := scopeWord(word)
			if err != nil {
				return err
			}
			q.Scopes = append(q.Scopes, id)
		}
		p.Set("scopes", *list)
	}
	q.Filter, q.Name = v.f, *name
	set(p, "name", *name)
	set(p, "consumer", q.Consumer)
	p.Set("last", strconv.Itoa(q.Last))
	p.Set("depth", strconv.Itoa(q.Depth))
	p.Set("stream", strconv.Itoa(q.Stream))
	return answered(ctx, v, words[0], "sharing", p,
		func(src *views.Source) (views.Board, error) { return views.Sharing(src, q) },
		func(b views.Board) { report.Board(std.Out, b, v.style()) })
}

func disposal(ctx context.Context, std IO, args []string) error {
	v := newView(std, "disposal", "disposal RECORDING [options]",
		"Shows how instances are disposed: how many are alive over time, which scopes are still open, what is not disposed,\nand the latest closings and the shutdown step by step.",
		"keenlantern disposal testdata/office.ndjson")
	v.rows(25)
	v.StringVar(&v.f.Name, "name", "", "only closings of scopes whose names contain this `TEXT`")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "disposal", v.query(),
		func(src *views.Source) (views.DisposalView, error) { return views.Disposal(src, v.f), nil },
		func(d views.DisposalView) { report.Disposal(std.Out, d, v.style()) })
}

func costs(ctx context.Context, std IO, args []string) error {
	v := newView(std, "costs", "costs RECORDING [options]",
		"Shows what constructing instances costs in the scopes of each name: how often, how long, what share of their time,\nand what one shared instance would save.",
		"keenlantern costs testdata/office.ndjson --name berths")
	v.rows(25)
	v.StringVar(&v.f.Name, "name", "", "only scopes whose names contain this `TEXT`")
	order := v.String("order", views.CostsByOwnTime, "order each name's registrations by `WHAT`: own (time), saves (by sharing) or made (instances)")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	if err := oneOf("order", *order, views.CostsByOwnTime, views.CostsBySaving, views.CostsByInstances); err != nil {
		return err
	}
	q := v.query()
	q.Set("order", *order)
	return answered(ctx, v, words[0], "costs", q,
		func(src *views.Source) (views.CostsView, error) { return views.Costs(src, v.f, *order), nil },
		func(c views.CostsView) { report.Costs(std.Out, c, v.style()) })
}

func compare(ctx context.Context, std IO, args []string) error {
	v := newView(std, "compare", "compare A B [options]",
		"Compares two recordings: new, gone and remaining findings; changed registrations and verdicts; costs per thousand\nscopes, and how certain a difference is. A and B may be parts of a recording, as in\nlatest@first-half, latest@second-half, latest@version=1.2 or latest@host=NAME. Exits with status 1 when a new finding is as severe as --fail-on.",
		"keenlantern compare testdata/harbour.ndjson testdata/office.ndjson --fail-on never")
	failOn := v.failOnFlag()
	words, err := v.read(args, 2, 2)
	if err != nil {
		return err
	}
	if err := oneOf("fail-on", *failOn, "error", "warning", "note", "never"); err != nil {
		return err
	}
	var c views.Comparison
	nameA, _, _ := strings.Cut(words[0], "@")
	nameB, _, _ := strings.Cut(words[1], "@")
	switch {
	case isFile(nameA) && isFile(nameB):
		a, partA, err := part(ctx, words[0], *v.settings)
		if err != nil {
			return err
		}
		b, partB, err := part(ctx, words[1], *v.settings)
		if err != nil {
			return err
		}
		c = views.Compare(a, b, partA, partB, 0)
	case isFile(nameA) || isFile(nameB):
		return &usageError{"compare takes two trace files, or two recordings of the service; 'keenlantern import' sends a file there"}
	default:
		if c, err = ask(*v.server).Compare(ctx, words[0], words[1]); err != nil {
			return err
		}
	}
	if *v.format == "json" {
		if err := report.JSON(std.Out, c); err != nil {
			return err
		}
	} else {
		report.Comparison(std.Out, c, v.style())
	}
	return failed(*failOn, c.New)
}
