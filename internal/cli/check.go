package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"os"
	"runtime"
	"runtime/debug"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/report"
)

func check(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "check", "check FILE… [options]",
		"Analyses trace files (.ndjson, or the same as gzip or zstd; - is standard input) and prints what is wrong.\nNo service is needed. Several files are taken as the streams of one recording.",
		"keenlantern check testdata/harbour.ndjson --fail-on warning")
	format := f.formatFlag("text", "json", "sarif", "junit", "csv", "html")
	failOn := f.failOnFlag()
	settings := f.settingsFlag()
	agreed := f.String("contract", "", "hold the files against the contract in this `FILE`, and leave out the findings that it accepts")
	strict := f.strictFlag()
	all := f.Bool("all", false, "print every finding, not only the summary by cause and the worst of each of the first causes")
	wide := f.Bool("wide", false, "print names in full")
	conformance := f.Bool("conformance", false, "check the recorder's work instead: what is broken in the trace, and what it does not contain")
	names, err := f.parse(args, 1, -1)
	if err != nil {
		return err
	}
	if *conformance {
		return checkConformance(ctx, std, *format, names)
	}
	if err := errors.Join(oneOf("format", *format, "text", "json", "sarif", "junit", "csv", "html"), oneOf("fail-on", *failOn, "error", "warning", "note", "never")); err != nil {
		return err
	}
	if *agreed != "" {
		return checkWith(ctx, std, output{format: *format, failOn: *failOn, agreed: true, all: *all, wide: *wide}, *settings, *agreed, *strict, names)
	}
	set, err := readSettings(*settings)
	if err != nil {
		return err
	}
	var results []*engine.Result
	var broken []error
	for n, one := range analyseAll(ctx, names, set) {
		name, r, err := names[n], one.result, one.err
		if r == nil {
			return err
		}
		if err != nil {
			broken = append(broken, err)
		}
		for n := range r.Streams {
			if b := r.Streams[n].Broken; b != nil {
				broken = append(broken, fmt.Errorf("analyse stream %s of %s: %w", r.Streams[n].Stream, name, b))
			}
		}
		results = append(results, r)
	}
	result := engine.Merge(results)
	err = write(std, output{format: *format, failOn: *failOn, all: *all, wide: *wide}, result)
	if err := errors.Join(append(broken, err)...); err != nil {
		return err
	}
	return failed(*failOn, result.Findings)
}

// output is how a result is printed.
type output struct {
	format, failOn string
	agreed         bool // it has been held against a contract
	all, wide      bool // as text: every finding, names in full
}

// write prints a result in one of check's formats.
func write(std IO, o output, result *engine.Result) error {
	var texts []report.RuleText
	for _, r := range rules.All {
		texts = append(texts, report.RuleText{ID: r.ID, Reports: r.Doc, Not: r.Not})
	}
	if o.agreed {
		for _, r := range contract.Rules() {
			texts = append(texts, report.RuleText(r))
		}
	}
	switch o.format {
	case "json":
		return report.JSON(std.Out, report.Brief(result))
	case "sarif":
		return report.SARIF(std.Out, result, Version, texts)
	case "junit":
		least := finding.Error + 1
		if o.failOn != "never" {
			_ = least.UnmarshalText([]byte(o.failOn)) // checked by oneOf
		}
		return report.JUnit(std.Out, result, texts, least)
	case "csv":
		return report.CSV(std.Out, result)
	case "html":
		return report.HTML(std.Out, result)
	}
	s := std.style()
	s.Wide = s.Wide || o.wide
	report.Findings(std.Out, result, s, o.all)
	return nil
}

type analysed struct {
	result *engine.Result
	err    error
}

// analyseAll reads trace files, as many at once as there are cores.
func analyseAll(ctx context.Context, names []string, set rules.Settings) []analysed {
	frugal()
	list := make([]analysed, len(names))
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for n, name := range names {
		all.Go(func() error {
			list[n].result, list[n].err = analyse(ctx, name, set)
			return nil
		})
	}
	_ = all.Wait()
	return list
}

// firstCollected is the memory from which on garbage is collected at all. Most traces are read by then, or fill that much in any
// case; collecting what grows towards it again and again would only take time.
const firstCollected = 80 << 20

// frugal lets garbage take less than a third of what is alive rather than as much, once there is much: an analysis leaves little garbage, so that it
// is still collected rarely. GOGC and GOMEMLIMIT prevail.
func frugal() {
	if os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	debug.SetGCPercent(-1)
	debug.SetMemoryLimit(firstCollected)
	// What nothing refers to is reported by the first collection.
	runtime.AddCleanup(&struct{ self *int }{new(int)}, func(struct{}) {
		debug.SetGCPercent(30)
		debug.SetMemoryLimit(math.MaxInt64)
	}, struct{}{})
}

// analyse reads one trace file. A result may come with an error: what could be read of a file that breaks off.
func analyse(ctx context.Context, name string, set rules.Settings) (*engine.Result, error) {
	in := os.Stdin
	if name != "-" {
		file, err := open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		in = file
	}
	r, err := engine.Analyse(ctx, in, reader.Options{}, set)
	return r, unreadable(name, err)
}

func open(name string) (*os.File, error) {
	file, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read %s: there is no such file", name)
	}
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	return file, nil
}

// unreadable returns which file an error of reading is about.
func unreadable(name string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, engine.ErrNoStream):
		return fmt.Errorf("read %s: %w; it is no lantern trace (docs/trace-format.md)", name, err)
	}
	return fmt.Errorf("read %s: %w", name, err)
}

// stoppable is a file whose reading ends with the context.
type stoppable struct {
	ctx context.Context
	*os.File
}

func (s *stoppable) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.File.Read(p)
}
