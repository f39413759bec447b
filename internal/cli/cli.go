package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"keenlantern.example/internal/client"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/report"
)

// IO is what a command reads from and writes to.
type IO struct {
	Out, Err io.Writer
	Env      func(string) string
	Terminal bool // Out is a terminal
	Watched  bool // Err is a terminal: long work shows how far it is
	Width    int  // its columns, 0 if not known
}

// The exit statuses of every command.
const (
	Fine       = 0
	Found      = 1 // findings at or above --fail-on
	WrongUsage = 2
	Unreadable = 3 // input that cannot be read, or no service there
)

// Version is what this build calls itself; the linker sets it.
var Version = "0.1.0-dev"

// DefaultServer is the service's address unless --server or KEENLANTERN_SERVER is set.
const DefaultServer = "http://127.0.0.1:7460"

type command struct {
	name, does string
	run        func(ctx context.Context, std IO, args []string) error
}

func commands() []command {
	return []command{
		{"serve", "run the service: accept recordings, analyse them, serve the API and the console", serve},
		{"demo", "run the service and record the made-up harbour pilot office with it", demo},
		{"check", "analyse trace files without a service", check},
		{"follow", "send what recorders write into folders to the service", followFolders},
		{"record", "switch the recording of an application on or off while it runs", switchRecording},
		{"import", "send a trace file to the service", importFile},
		{"recordings", "list the recordings of a service", recordings},
		{"findings", "list what was found in a recording or a trace file", findings},
		{"finding", "show one finding with its evidence", oneFinding},
		{"registrations", "list registrations, which one answers, and how their instances behaved", registrations},
		{"by-hand", "list the places that construct instances past the container", byHand},
		{"scopes", "list scopes by name, time, duration, trace or findings", scopes},
		{"scope", "show what happened in one scope", scope},
		{"sharing", "show which instance each consumer was given, scope by scope", sharing},
		{"disposal", "show live instances over time, and how they are disposed", disposal},
		{"keys", "show what is registered, requested and resolved for each service and key", keys},
		{"layers", "show decorators, who is given which, and how many calls reach each", layers},
		{"costs", "show what constructing instances costs", costs},
		{"contract", "draft a contract of an application's wiring, and check recordings against it", contracts},
		{"whatif", "predict what other lifetimes would save, and what they would break", whatif},
		{"compare", "compare two recordings", compare},
		{"export", "write a recording's trace to a file", export},
		{"backup", "copy the service's database while it works", backup},
		{"salvage", "write what can be read of a damaged data folder", salvage},
		{"pin", "keep a recording from being deleted, and name it", pin},
		{"delete", "delete recordings permanently", deleteRecording},
		{"analyse", "have the service analyse a recording again", analyseAgain},
		{"retention", "show what the service deletes automatically", retention},
		{"services", "list the services that share a log, and how far each is", services},
		{"token", "make, list and revoke tokens", token},
		{"rules", "list the rules with their conditions", listRules},
		{"version", "print the version", version},
	}
}

// usageError is a wrong call; its text is what to do.
type usageError struct{ what string }

func (e *usageError) Error() string { return e.what }

// status ends a command with an exit status when all output has been written.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// Main runs the command that args name and returns the exit status.
func Main(ctx context.Context, std IO, args []string) int {
	if len(args) == 0 || args[0] == "help" || args[0] == "--help" || args[0] == "-h" {
		if len(args) > 1 && args[0] == "help" {
			return Main(ctx, std, []string{args[1], "--help"})
		}
		overview(std.Out)
		if len(args) == 0 {
			return WrongUsage
		}
		return Fine
	}
	for _, c := range commands() {
		if c.name == args[0] {
			return exit(std, c.name, c.run(ctx, std, args[1:]))
		}
	}
	return exit(std, "", &usageError{fmt.Sprintf("there is no command %q; 'keenlantern help' lists them", args[0])})
}

// exit makes an exit status of a command's error, and a line for what is not printed yet.
func exit(std IO, name string, err error) int {
	var done status
	var usage *usageError
	switch {
	case err == nil || errors.Is(err, flag.ErrHelp):
		return Fine
	case errors.As(err, &done):
		return int(done)
	}
	text := strings.ReplaceAll(report.Clean(strings.ReplaceAll(err.Error(), "\n", "; ")), "\r", " ")
	if name != "" {
		name = " " + name
	}
	fmt.Fprintf(std.Err, "keenlantern%s: %s\n", name, text)
	if errors.As(err, &usage) {
		return WrongUsage
	}
	return Unreadable
}

func overview(out io.Writer) {
	fmt.Fprint(out, "Keen Lantern records how an application's container builds, shares and disposes instances,\nand finds what is wrong with it.\n\nusage: keenlantern COMMAND [options]\n\n")
	rows := [][]string{}
	for _, c := range commands() {
		rows = append(rows, []string{"  " + c.name, c.does})
	}
	report.Table(out, []string{"", ""}, rows)
	fmt.Fprintf(out, "\n'keenlantern COMMAND --help' has the options. The service's address is --server, at $KEENLANTERN_SERVER,\nor %s. Exit status: 0 fine, 1 something was found, 2 wrong usage, 3 unreadable or no service.\n", DefaultServer)
}

// flags is a command's flag set with a help text.
type flags struct {
	*flag.FlagSet
	std                  IO
	usage, about, sample string
}

func newFlags(std IO, name, usage, about, sample string) *flags {
	f := &flags{FlagSet: flag.NewFlagSet(name, flag.ContinueOnError), std: std, usage: usage, about: about, sample: sample}
	f.SetOutput(io.Discard)
	return f
}

// parse reads args: options may stand before, between and behind the words that are none, which are returned.
func (f *flags) parse(args []string, least, most int) ([]string, error) {
	var words []string
	for {
		if err := f.Parse(args); err != nil {
			if errors.Is(err, flag.ErrHelp) {
				f.help()
				return nil, err
			}
			return nil, &usageError{err.Error() + "; see 'keenlantern " + f.Name() + " --help'"}
		}
		rest := f.Args()
		if len(rest) == 0 {
			break
		}
		words, args = append(words, rest[0]), rest[1:]
	}
	if len(words) < least || most >= 0 && len(words) > most {
		return nil, &usageError{"usage: keenlantern " + f.usage}
	}
	return words, nil
}

func (f *flags) help() {
	fmt.Fprintf(f.std.Out, "usage: keenlantern %s\n\n%s\n", f.usage, f.about)
	rows := [][]string{}
	f.VisitAll(func(o *flag.Flag) {
		kind, does := flag.UnquoteUsage(o)
		name := "  --" + o.Name
		if kind != "" {
			name += " " + strings.ToUpper(kind)
		}
		if o.DefValue != "" && o.DefValue != "false" && o.DefValue != "0" && o.DefValue != "0s" {
			does += " (default " + o.DefValue + ")"
		}
		rows = append(rows, []string{name, does})
	})
	if len(rows) > 0 {
		fmt.Fprintln(f.std.Out)
		report.Table(f.std.Out, []string{"options:", ""}, rows)
	}
	fmt.Fprintf(f.std.Out, "\nexample:\n  %s\n", strings.ReplaceAll(f.sample, "\n", "\n  "))
}

// style is how text for people is written to out.
func (std IO) style() report.Style {
	return report.Style{Colour: std.Terminal && std.Env("NO_COLOR") == "" && std.Env("TERM") != "dumb", Width: std.Width, Wide: !std.Terminal}
}

// serverFlag adds --server.
func (f *flags) serverFlag() *string {
	at := f.std.Env("KEENLANTERN_SERVER")
	if at == "" {
		at = DefaultServer
	}
	return f.String("server", at, "`URL` of the service")
}

// formatFlag adds --format.
func (f *flags) formatFlag(kinds ...string) *string {
	return f.String("format", kinds[0], "output `FORMAT`: "+strings.Join(kinds, ", "))
}

func oneOf(option, value string, allowed ...string) error {
	for _, a := range allowed {
		if value == a {
			return nil
		}
	}
	return &usageError{fmt.Sprintf("--%s is %q; it is one of %s", option, value, strings.Join(allowed, ", "))}
}

// failOnFlag adds --fail-on.
func (f *flags) failOnFlag() *string {
	return f.String("fail-on", "error", "exit with status 1 if a finding has this `SEVERITY` or a worse one: error, warning, note, or never")
}

// failed returns the status that the findings call for.
func failed(failOn string, list []*finding.Finding) error {
	if failOn == "never" {
		return nil
	}
	var least finding.Severity
	_ = least.UnmarshalText([]byte(failOn)) // checked by oneOf
	for _, f := range list {
		if f.Severity >= least {
			return status(Found)
		}
	}
	return nil
}

func ask(server string) *client.Client {
	return &client.Client{Base: server, Token: os.Getenv("KEENLANTERN_TOKEN")}
}
