package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"time"

	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/report"
)

// contractCommand is a form of the contract command.
type contractCommand struct {
	least, most int // words behind its name
	run         func(ctx context.Context, c *contractFlags, words []string) error
}

var contractCommands = map[string]contractCommand{
	"draft":  {1, 1, draftContract},
	"adopt":  {1, 2, adoptContract},
	"check":  {1, 2, checkContract},
	"put":    {1, 1, putContract},
	"show":   {1, 1, showContract},
	"remove": {1, 1, removeContract},
}

type contractFlags struct {
	*flags
	server, format, settings *string
	strict                   *bool
	reason, until            *string
}

func contracts(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "contract", "contract draft RECORDING | adopt [FILE] RECORDING | check [FILE] RECORDING | put FILE | show APPLICATION | remove APPLICATION [options]",
		"Works with contracts: YAML files that state how an application is wired, how long its instances live, what disposes them,\nand which findings are accepted (docs/contract.md). draft writes one from a good recording. adopt\naccepts the findings of a recording, so that only new ones count from then on. check says of each clause whether\na recording keeps it. Both take the contract that the service holds, unless a FILE is named. put has the service hold\none: it then judges each recording of the application. RECORDING is an id, the beginning of one, latest, or a trace file.",
		"keenlantern contract draft testdata/office.ndjson")
	c := &contractFlags{flags: f, server: f.serverFlag(), format: f.formatFlag("text", "json", "sarif", "junit", "csv", "html"), settings: f.settingsFlag()}
	c.strict = f.strictFlag()
	c.reason = f.String("reason", "", "adopt: a `TEXT` with the reason why the findings are left for now")
	c.until = f.String("until", "", "adopt: the last `DAY` on which the findings are accepted, such as 2027-03-31 (default three months from today)")
	words, err := f.parse(args, 1, 3)
	if err != nil {
		return err
	}
	form, ok := contractCommands[words[0]]
	if !ok || len(words)-1 < form.least || len(words)-1 > form.most {
		return &usageError{"usage: keenlantern " + f.usage}
	}
	if err := oneOf("format", *c.format, "text", "json", "sarif", "junit", "csv", "html"); err != nil {
		return err
	}
	return form.run(ctx, c, words[1:])
}

// strictFlag adds --strict.
func (f *flags) strictFlag() *bool {
	return f.Bool("strict", false, "with a contract: exit with status 1 also if the recording does not show a clause")
}

// readContract reads a contract's file; - is standard input.
func readContract(name string) (*contract.Contract, []byte, error) {
	var in io.Reader = os.Stdin
	if name != "-" {
		file, err := open(name)
		if err != nil {
			return nil, nil, err
		}
		defer file.Close()
		in = file
	}
	text, err := io.ReadAll(io.LimitReader(in, contract.MaxSize+1))
	if err != nil {
		return nil, nil, fmt.Errorf("read %s: %w", name, err)
	}
	c, err := contract.Read(name, text)
	if err != nil {
		return nil, nil, fmt.Errorf("read the contract: %w", err)
	}
	return c, text, nil
}

func draftContract(ctx context.Context, c *contractFlags, words []string) error {
	if isFile(words[0]) {
		src, err := study(ctx, words[0], *c.settings)
		if err != nil {
			return err
		}
		_, err = io.WriteString(c.std.Out, contract.Draft(src))
		return err
	}
	return ask(*c.server).Contract(ctx, words[0], "contract/draft", nil, c.std.Out)
}

// adoptContract accepts the findings of a recording.
func adoptContract(ctx context.Context, c *contractFlags, words []string) error {
	if *c.reason == "" {
		return &usageError{"adopt needs a --reason why the findings are left for now"}
	}
	if *c.until == "" {
		*c.until = time.Now().AddDate(0, 3, 0).Format(time.DateOnly)
	}
	until, err := time.Parse(time.DateOnly, *c.until)
	if err != nil {
		return &usageError{fmt.Sprintf("--until is %q; it is a day such as 2027-03-31", *c.until)}
	}
	recording := words[len(words)-1]
	if len(words) == 1 {
		if isFile(recording) {
			return &usageError{"a trace file has no service that holds its contract; name the contract's file too"}
		}
		done, err := ask(*c.server).Adopt(ctx, recording, *c.reason, *c.until)
		if err != nil {
			return err
		}
		return c.adopted(done, "the contract that the service holds for "+done.Application)
	}
	found, err := recordingFindings(ctx, *c.server, recording, "note", *c.settings)
	if err != nil {
		return err
	}
	text, err := os.ReadFile(words[0])
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("read the contract: %w", err)
	}
	if len(found.Streams) == 0 {
		return fmt.Errorf("nothing of %s has been analysed yet; try again in a moment", recording)
	}
	app := found.Streams[0].App
	done, err := contract.Adopt(words[0], app, text, found.Findings, *c.reason, until, time.Now())
	if err != nil {
		return err
	}
	if err := replaceFile(words[0], done.Text); err != nil {
		return fmt.Errorf("write the contract: %w", err)
	}
	return c.adopted(views.Adopted{Application: app, Accepted: done.Accepted, Before: done.Before, Until: *c.until}, words[0])
}

// replaceFile writes a file beside the named one and renames it, so that the old text is there until the new one is whole.
func replaceFile(name string, text []byte) error {
	mode := fs.FileMode(0o644)
	if info, err := os.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	temporary := name + ".new"
	err := os.WriteFile(temporary, text, mode)
	if err == nil {
		err = os.Rename(temporary, name)
	}
	if err != nil {
		_ = os.Remove(temporary)
	}
	return err
}

func (c *contractFlags) adopted(a views.Adopted, where string) error {
	if *c.format == "json" {
		return report.JSON(c.std.Out, a)
	}
	fmt.Fprintf(c.std.Out, "%s until %s, in %s\n", finding.Count(int64(a.Accepted), "finding is accepted", "findings are accepted"), a.Until, where)
	if a.Before > 0 {
		fmt.Fprintf(c.std.Out, "%s before\n", finding.Count(int64(a.Before), "other one was accepted", "other ones were accepted"))
	}
	return nil
}

func checkContract(ctx context.Context, c *contractFlags, words []string) error {
	recording := words[len(words)-1]
	var held *contract.Contract
	var text []byte
	if len(words) == 2 {
		var err error
		if held, text, err = readContract(words[0]); err != nil {
			return err
		}
	}
	var r *contract.Report
	switch {
	case isFile(recording) && held == nil:
		return &usageError{"a trace file has no service that holds its contract; name the contract's file too"}
	case isFile(recording):
		src, err := study(ctx, recording, *c.settings)
		if err != nil {
			return err
		}
		if r, err = contract.Check(held, src, time.Now()); err != nil {
			return err
		}
	default:
		var body io.Reader
		q := url.Values{}
		if held != nil {
			body = bytes.NewReader(text)
			q.Set("name", held.Name)
		}
		r = &contract.Report{}
		if err := ask(*c.server).Contract(ctx, recording, "contract?"+q.Encode(), body, r); err != nil {
			return err
		}
	}
	if err := c.write(r); err != nil {
		return err
	}
	if !r.Passes(*c.strict) {
		return status(Found)
	}
	return nil
}

func (c *contractFlags) write(r *contract.Report) error {
	switch *c.format {
	case "text":
		report.Contract(c.std.Out, r, c.std.style())
		return nil
	case "json":
		return report.JSON(c.std.Out, r)
	}
	texts := []report.RuleText{}
	for _, rule := range contract.Rules() {
		texts = append(texts, report.RuleText(rule))
	}
	broken := &engine.Result{Format: engine.Format, Streams: []engine.Info{{App: r.Application, Health: engine.Health{Sampled: 1}}}, Findings: r.Findings()}
	switch *c.format {
	case "sarif":
		return report.SARIF(c.std.Out, broken, Version, texts)
	case "junit":
		return report.ContractJUnit(c.std.Out, r, *c.strict)
	case "csv":
		return report.ContractCSV(c.std.Out, r)
	}
	return report.HTML(c.std.Out, broken)
}

func putContract(ctx context.Context, c *contractFlags, words []string) error {
	held, text, err := readContract(words[0])
	if err != nil {
		return err
	}
	if err := ask(*c.server).PutContract(ctx, held.Application, bytes.NewReader(text)); err != nil {
		return err
	}
	fmt.Fprintf(c.std.Out, "the service holds %s for %s: %s\n", words[0], held.Application, finding.Count(int64(len(held.Clauses)), "clause", "clauses"))
	return nil
}

func showContract(ctx context.Context, c *contractFlags, words []string) error {
	held, err := ask(*c.server).HeldContract(ctx, words[0])
	if err != nil {
		return err
	}
	if *c.format == "json" {
		return report.JSON(c.std.Out, held)
	}
	_, err = io.WriteString(c.std.Out, held.Text)
	return err
}

func removeContract(ctx context.Context, c *contractFlags, words []string) error {
	if err := ask(*c.server).RemoveContract(ctx, words[0]); err != nil {
		return err
	}
	fmt.Fprintf(c.std.Out, "the service holds no contract for %s any more\n", words[0])
	return nil
}

// checkWith checks trace files and holds them against a contract.
func checkWith(ctx context.Context, std IO, o output, settings, file string, strict bool, names []string) error {
	held, _, err := readContract(file)
	if err != nil {
		return err
	}
	src, err := studyAll(ctx, names, settings)
	if err != nil {
		return err
	}
	var broken []error
	for n := range src.Result.Streams {
		if b := src.Result.Streams[n].Broken; b != nil {
			broken = append(broken, fmt.Errorf("analyse stream %s: %w", src.Result.Streams[n].Stream, b))
		}
	}
	now := time.Now()
	r, err := contract.Check(held, src, now)
	if err != nil {
		return errors.Join(append(broken, err)...)
	}
	result := held.Apply(src.Result, r, now)
	if o.format == "json" {
		err = report.JSON(std.Out, struct {
			*engine.Result
			Contract *contract.Report `json:"contract"`
		}{report.Brief(result), r})
	} else {
		err = write(std, o, result)
	}
	if o.format == "text" {
		fmt.Fprintln(std.Out)
		report.ContractSummary(std.Out, r, std.style())
	}
	if err := errors.Join(append(broken, err)...); err != nil {
		return err
	}
	if !r.Passes(strict) {
		return status(Found)
	}
	return failed(o.failOn, result.Findings)
}
