package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

func scopes(ctx context.Context, std IO, args []string) error {
	v := newView(std, "scopes", "scopes RECORDING [options]",
		"Lists scopes, the latest first.", "keenlantern scopes testdata/office.ndjson --name 'GET /berths' --at-least 500us --longest", "csv")
	var q views.ScopeQuery
	v.StringVar(&v.f.Name, "name", "", "only scopes with this `NAME`")
	v.StringVar(&q.Part, "part", "", "only scopes whose names contain this `TEXT`")
	v.StringVar(&q.Kind, "kind", "", "only scopes of this `KIND`, such as request")
	v.StringVar(&q.Trace, "trace", "", "only scopes with this trace `ID`")
	since := v.Duration("since", 0, "only scopes opened this `DURATION` after the stream's start, or later")
	until := v.Duration("until", 0, "only scopes opened earlier than this `DURATION` after the stream's start")
	atLeast := v.Duration("at-least", 0, "only scopes that were open for this `DURATION` or longer")
	v.BoolVar(&q.Findings, "findings", false, "only scopes that a finding mentions")
	v.BoolVar(&q.Longest, "longest", false, "list the longest scopes first")
	v.paging(30)
	words, err := v.read(args, 1, 1, "csv")
	if err != nil {
		return err
	}
	q.Stream, q.Name, q.Limit, q.Offset = -1, v.f.Name, cmp.Or(v.f.Limit, 30), v.f.Offset
	q.Since, q.Until, q.AtLeast = since.Nanoseconds(), until.Nanoseconds(), atLeast.Nanoseconds()
	p := v.query()
	set(p, "part", q.Part)
	set(p, "kind", q.Kind)
	set(p, "trace", q.Trace)
	for name, d := range map[string]*time.Duration{"since_ns": since, "until_ns": until, "at_least_ns": atLeast} {
		if *d > 0 {
			p.Set(name, strconv.FormatInt(d.Nanoseconds(), 10))
		}
	}
	if q.Findings {
		p.Set("findings", "true")
	}
	if q.Longest {
		p.Set("order", "longest")
	}
	return answered(ctx, v, words[0], "scopes", p,
		func(src *views.Source) (views.ScopeList, error) { return views.Scopes(src, q) },
		func(l views.ScopeList) {
			if *v.format == "csv" {
				scopesCSV(std, l)
				return
			}
			report.Scopes(std.Out, l, v.style())
		})
}

func scopesCSV(std IO, l views.ScopeList) {
	out := csv.NewWriter(std.Out)
	_ = out.Write([]string{"stream", "scope", "name", "kind", "began", "took_ns", "made", "built_ns", "uses", "findings", "trace"})
	for _, r := range l.Scopes {
		_ = out.Write([]string{
			strconv.Itoa(r.Stream), strconv.FormatUint(r.ID, 10), report.Cell(r.Name), report.Cell(r.Kind), r.Began, strconv.FormatInt(r.TookNS, 10),
			strconv.FormatInt(r.Made, 10), strconv.FormatInt(r.BuiltNS, 10), strconv.FormatInt(r.Uses, 10), strconv.FormatInt(r.Findings, 10), report.Cell(r.Trace),
		})
	}
	out.Flush()
}

func scope(ctx context.Context, std IO, args []string) error {
	v := newView(std, "scope", "scope RECORDING SCOPE [options]",
		"Shows what happened in one scope: what was built within what, what came from outside, who used what, what was\ndisposed in which order, and what was left. SCOPE is its number as 'keenlantern scopes' shows it, or root for what\nwas built outside any other scope.",
		"keenlantern scope testdata/office.ndjson root")
	v.paging(views.DefaultRows)
	words, err := v.read(args, 2, 2)
	if err != nil {
		return err
	}
	stream, id, err := scopeWord(words[1])
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "scopes/"+url.PathEscape(words[1]), v.query(),
		func(src *views.Source) (views.Story, error) { return views.TellScope(src, stream, id, v.f, false) },
		func(s views.Story) { report.Scope(std.Out, s, v.style()) })
}

// scopeWord reads a scope's address.
func scopeWord(word string) (stream int, id uint64, err error) {
	stream, id, ok := views.ScopeAt(word)
	if !ok {
		return 0, 0, &usageError{fmt.Sprintf("%q is no scope: it is a number as 'keenlantern scopes' shows it, or root", word)}
	}
	return stream, id, nil
}
