package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
	"keenlantern.example/record/event"
)

// viewFlags are what the commands that ask a recording a question have in common.
type viewFlags struct {
	*flags
	server, format, settings *string
	wide                     *bool
	f                        views.Filter
}

func newView(std IO, name, usage, about, sample string, formats ...string) *viewFlags {
	v := &viewFlags{flags: newFlags(std, name, usage, about+"\nRECORDING is an id, the beginning of one, latest, or a trace file, which is analysed here without a service.", sample)}
	v.server = v.serverFlag()
	v.format = v.formatFlag(append([]string{"text", "json"}, formats...)...)
	v.settings = v.settingsFlag()
	v.wide = v.Bool("wide", false, "print names in full, whatever the terminal's width")
	return v
}

// rows adds what narrows and pages.
func (v *viewFlags) rows(limit int) {
	v.StringVar(&v.f.Service, "service", "", "only services, keys and implementations whose names contain this `TEXT`")
	v.StringVar(&v.f.Lifetime, "lifetime", "", "only this `LIFETIME`: singleton, scoped, transient, per-consumer, external")
	v.StringVar(&v.f.Module, "module", "", "only what this `MODULE` registered; - stands for no module")
	v.paging(limit)
}

func (v *viewFlags) paging(limit int) {
	v.IntVar(&v.f.Limit, "limit", limit, "print at most `N` rows")
	v.IntVar(&v.f.Offset, "offset", 0, "skip the first `N` rows")
}

// read parses args and checks what all views have.
func (v *viewFlags) read(args []string, least, most int, formats ...string) ([]string, error) {
	words, err := v.parse(args, least, most)
	if err != nil {
		return nil, err
	}
	if err := oneOf("format", *v.format, append([]string{"text", "json"}, formats...)...); err != nil {
		return nil, err
	}
	if v.f.Limit < 0 || v.f.Offset < 0 {
		return nil, &usageError{"--limit and --offset are numbers from 0 on"}
	}
	return words, nil
}

func (v *viewFlags) style() report.Style {
	s := v.std.style()
	s.Wide = s.Wide || *v.wide
	return s
}

func (v *viewFlags) query() url.Values {
	q := url.Values{}
	set(q, "service", v.f.Service)
	set(q, "lifetime", v.f.Lifetime)
	set(q, "module", v.f.Module)
	set(q, "name", v.f.Name)
	if v.f.Limit > 0 {
		q.Set("limit", strconv.Itoa(v.f.Limit))
	}
	if v.f.Offset > 0 {
		q.Set("offset", strconv.Itoa(v.f.Offset))
	}
	return q
}

func set(q url.Values, name, value string) {
	if value != "" {
		q.Set(name, value)
	}
}

// answered asks the service, or the trace file where name is one, and prints the answer.
func answered[T any](ctx context.Context, v *viewFlags, name, what string, q url.Values, here func(*views.Source) (T, error), text func(T)) error {
	var answer T
	if isFile(name) {
		src, err := study(ctx, name, *v.settings)
		if err != nil {
			return err
		}
		if answer, err = here(src); err != nil {
			return fmt.Errorf("%w in %s", err, name)
		}
	} else if err := ask(*v.server).View(ctx, name, what, q, &answer); err != nil {
		return err
	}
	if *v.format == "json" {
		return report.JSON(v.std.Out, answer)
	}
	text(answer)
	return nil
}

// study analyses a trace file for views.
func study(ctx context.Context, name, settings string) (*views.Source, error) {
	if name == "-" {
		return nil, &usageError{"a view reads the trace twice, so it takes a file; 'keenlantern check -' reads standard input"}
	}
	set, err := readSettings(settings)
	if err != nil {
		return nil, err
	}
	in, err := open(name)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	list, err := engine.Study(ctx, in, reader.Options{}, set)
	if err != nil {
		return nil, unreadable(name, err)
	}
	src := &views.Source{Recording: name}
	results := []*engine.Result{}
	for n := range list {
		results = append(results, list[n].Result)
		src.Streams = append(src.Streams, views.Stream{State: list[n].State, Result: list[n].Result, Log: chunks(list[n].Chunks), Lines: &fileLines{ctx, name}})
	}
	src.Result = engine.Merge(results)
	return src, nil
}

// chunks is a log of scopes in memory.
type chunks []derive.Chunk

func (c chunks) Chunk(n int) ([]derive.Scope, error) { return derive.Unpack(c[n].Body) }
func (c chunks) Pending() ([]derive.Scope, error)    { return nil, nil }

// fileLines reads a file's lines again.
type fileLines struct {
	ctx  context.Context
	name string
}

func (l *fileLines) Between(from, to int64, f func(*event.Event) bool) error {
	in, err := open(l.name)
	if err != nil {
		return err
	}
	defer in.Close()
	plain, err := reader.Decompress(&stoppable{l.ctx, in})
	if err != nil {
		return unreadable(l.name, err)
	}
	defer plain.Close()
	for r := reader.New(plain, reader.Options{}); ; {
		line, err := r.Next()
		if err != nil {
			return l.ctx.Err() // that it could be read was seen when it was analysed
		}
		if line.Number < from || line.Event == nil {
			continue
		}
		if line.Number > to || !f(line.Event) {
			return nil
		}
	}
}

func registrations(ctx context.Context, std IO, args []string) error {
	v := newView(std, "registrations", "registrations RECORDING [options]",
		"Lists registrations, which one answers and why, and how the instances of each behaved. ≠ marks instances that did not\nbehave as their registered lifetime says; three rows or fewer are shown in full.",
		"keenlantern registrations testdata/office.ndjson --service tide")
	v.rows(views.DefaultRows)
	graph := v.String("graph", "", "print the wiring graph instead, in this `FORMAT`: dot (for Graphviz) or json")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	if *graph != "" {
		if err := oneOf("graph", *graph, "dot", "json"); err != nil {
			return err
		}
		if *graph == "json" {
			*v.format = "json"
		}
		return answered(ctx, v, words[0], "graph", v.query(),
			func(src *views.Source) (views.Graph, error) { return views.Wiring(src, v.f), nil },
			func(g views.Graph) { report.DOT(std.Out, g) })
	}
	return answered(ctx, v, words[0], "registrations", v.query(),
		func(src *views.Source) (views.RegistrationList, error) { return views.Registrations(src, v.f), nil },
		func(l views.RegistrationList) { report.Registrations(std.Out, l, v.style()) })
}

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
		"Shows what happened in one scope: what was built within what, what came from outside, who used what, what was\ndisposed in which order, and what was left. SCOPE is its number as 'keenlantern scopes' shows it.",
		"keenlantern scope testdata/office.ndjson 2")
	words, err := v.read(args, 2, 2)
	if err != nil {
		return err
	}
	stream, id, err := scopeWord(words[1])
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "scopes/"+url.PathEscape(words[1]), nil,
		func(src *views.Source) (views.Story, error) { return views.TellScope(src, stream, id) },
		func(s views.Story) { report.Scope(std.Out, s, v.style()) })
}

// scopeWord reads a scope's address.
func scopeWord(word string) (stream int, id uint64, err error) {
	stream, id, ok := views.ScopeAt(word)
	if !ok {
		return 0, 0, &usageError{fmt.Sprintf("%q is no scope: it is a number as 'keenlantern scopes' shows it", word)}
	}
	return stream, id, nil
}

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
		"Shows how instances are disposed: how many are alive over time, which scopes are still open, what nobody has disposed,\nand the latest closings and the shutdown step by step.",
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

func keys(ctx context.Context, std IO, args []string) error {
	v := newView(std, "keys", "keys RECORDING [options]",
		"Shows, for each service and key, what is registered, who requested it and how often, what answered, and what was\nmissing.",
		"keenlantern keys testdata/office.ndjson --all")
	v.rows(100)
	all := v.Bool("all", false, "include services that have no key and one registration")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	p := v.query()
	if *all {
		p.Set("all", "true")
	}
	return answered(ctx, v, words[0], "keys", p,
		func(src *views.Source) (views.KeysView, error) { return views.Keys(src, v.f, *all), nil },
		func(k views.KeysView) { report.Keys(std.Out, k, v.style()) })
}

func layers(ctx context.Context, std IO, args []string) error {
	v := newView(std, "layers", "layers RECORDING [options]",
		"Shows each service's decorators from the outermost inwards, how many calls reached each, and who was given which\nof them.",
		"keenlantern layers testdata/office.ndjson")
	v.rows(100)
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "layers", v.query(),
		func(src *views.Source) (views.LayersView, error) { return views.Layers(src, v.f), nil },
		func(l views.LayersView) { report.Layers(std.Out, l, v.style()) })
}

func costs(ctx context.Context, std IO, args []string) error {
	v := newView(std, "costs", "costs RECORDING [options]",
		"Shows what constructing instances costs in the scopes of each name: how often, how long, what share of their time,\nand what one shared instance would save.",
		"keenlantern costs testdata/office.ndjson --name berths")
	v.rows(25)
	v.StringVar(&v.f.Name, "name", "", "only scopes whose names contain this `TEXT`")
	words, err := v.read(args, 1, 1)
	if err != nil {
		return err
	}
	return answered(ctx, v, words[0], "costs", v.query(),
		func(src *views.Source) (views.CostsView, error) { return views.Costs(src, v.f), nil },
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
		c = views.Compare(a, b, partA, partB)
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

func part(ctx context.Context, word, settings string) (*views.Source, string, error) {
	name, how, _ := strings.Cut(word, "@")
	src, err := study(ctx, name, settings)
	if err != nil {
		return nil, "", err
	}
	src, err = views.Part(src, how)
	return src, how, err
}
