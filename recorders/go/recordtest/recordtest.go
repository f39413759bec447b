// Package recordtest records what an application's container does during a test, and fails the test with what is wrong in it.
//
//	func TestBerths(t *testing.T) {
//		rec := recordtest.Start(t)
//		office := harbour.Start(rec)
//		...
//	}
//
// When the test ends, "keenlantern check" reads the recording. The program is the one that the environment variable KEENLANTERN
// names, else the one on the PATH, else the module's tool ("go tool keenlantern"); a service hands it out:
//
//	curl -so keenlantern http://127.0.0.1:7460/program/$(go env GOOS)-$(go env GOARCH)
//
// Where there is none, the test runs without being checked, with a line on standard error. It fails instead with Required, and where the
// environment variable CI is set.
package recordtest

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"keenlantern.example/record"
)

// TB is what Start needs of a *testing.T, *testing.B or *testing.F.
type TB interface {
	Helper()
	Name() string
	TempDir() string
	Cleanup(func())
	Logf(format string, args ...any)
	Errorf(format string, args ...any)
	Fatalf(format string, args ...any)
}

// Option sets how a test is recorded and checked.
type Option func(*options)

type options struct {
	program  []string
	required bool
	contract string
	accepted map[string]bool
	least    string
	config   record.Config
}

// Accept lets findings be, by their ids. One that is no longer found is noted in the test's log.
func Accept(ids ...string) Option {
	return func(o *options) {
		for _, id := range ids {
			o.accepted[id] = true
		}
	}
}

// FailOn fails the test from a severity on: "error", which is the default, "warning" or "note".
func FailOn(severity string) Option { return func(o *options) { o.least = severity } }

// Program names the program that checks, with the arguments that come before its own.
func Program(command ...string) Option { return func(o *options) { o.program = command } }

// Required fails the test where there is no program to check it.
func Required() Option { return func(o *options) { o.required = true } }

// Contract holds the recording against a contract, in the file of this path: what breaks it fails the test, and what it accepts does not.
func Contract(path string) Option { return func(o *options) { o.contract = path } }

// Config is what is recorded besides, App for instance; where it goes is the test's own.
func Config(c record.Config) Option { return func(o *options) { o.config = c } }

// Start begins to record a test. The recording ends with it, after what was registered with Cleanup later. It is nil, which
// records nothing, where there is no program to check it.
func Start(t TB, opts ...Option) *record.Recorder {
	t.Helper()
	o := options{accepted: map[string]bool{}, least: "error"}
	for _, opt := range opts {
		opt(&o)
	}
	if len(o.program) == 0 {
		o.program = find()
	}
	if len(o.program) == 0 {
		const why = "there is no keenlantern program on the PATH, in KEENLANTERN or among the module's tools"
		if o.required || os.Getenv("CI") != "" {
			t.Fatalf("recordtest: NOT CHECKED: %s", why)
		}
		t.Logf("recordtest: NOT CHECKED: %s", why)
		unchecked.Do(func() { fmt.Fprintf(os.Stderr, "recordtest: tests are NOT CHECKED: %s\n", why) })
		return nil
	}
	path := filepath.Join(t.TempDir(), "recording.ndjson")
	file, err := record.File(path, nil)
	if err != nil {
		t.Fatalf("recordtest: %v", err)
	}
	c := o.config
	if c.App == "" {
		c.App = t.Name()
	}
	c.Service, c.Output, c.Off = "", file, false
	rec, err := record.Start(c)
	if err != nil {
		t.Fatalf("recordtest: %v", err)
	}
	t.Cleanup(func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if err := rec.Close(ctx); err != nil {
			t.Errorf("recordtest: %v", err)
			return
		}
		if err := file.Close(); err != nil {
			t.Errorf("recordtest: %v", err)
			return
		}
		o.check(t, ctx, path)
	})
	return rec
}

// unchecked has standard error say once for each test binary that nothing is checked.
var unchecked sync.Once

// find returns the program that checks, nil if there is none.
func find() []string {
	if set := os.Getenv("KEENLANTERN"); set != "" {
		return []string{set}
	}
	if path, err := exec.LookPath("keenlantern"); err == nil {
		return []string{path}
	}
	if exec.Command("go", "tool", "-n", "keenlantern").Run() == nil {
		return []string{"go", "tool", "keenlantern"}
	}
	return nil
}

// finding is one of the checker's.
type finding struct {
	ID       string `json:"id"`
	Rule     string `json:"rule"`
	Severity string `json:"severity"`
	Title    string `json:"title"`
	Why      string `json:"why"`
	Fix      string `json:"fix"`
}

var ranks = map[string]int{"note": 1, "warning": 2, "error": 3}

// check fails the test with what is found in a recording.
func (o *options) check(t TB, ctx context.Context, path string) {
	t.Helper()
	least, known := ranks[o.least]
	if !known {
		t.Errorf("recordtest: FailOn(%q): it is error, warning or note", o.least)
		return
	}
	args := append(o.program[1:len(o.program):len(o.program)], "check", "--format", "json", "--fail-on", "never")
	if o.contract != "" {
		args = append(args, "--contract", o.contract)
	}
	cmd := exec.CommandContext(ctx, o.program[0], append(args, path)...)
	var said strings.Builder
	cmd.Stderr = &said
	out, err := cmd.Output()
	if err != nil {
		t.Errorf("recordtest: %s: %v\n%s", strings.Join(cmd.Args, " "), err, said.String())
		return
	}
	var result struct{ Findings []finding }
	if err := json.Unmarshal(out, &result); err != nil {
		t.Errorf("recordtest: what %s printed is no result: %v", o.program[0], err)
		return
	}
	for _, f := range result.Findings {
		if o.accepted[f.ID] {
			delete(o.accepted, f.ID)
			continue
		}
		text := fmt.Sprintf("%s %s (%s)\n  why  %s\n  fix  %s\n  accept it with recordtest.Accept(%q)", strings.ToUpper(f.Severity), f.Title, f.Rule, f.Why, f.Fix, f.ID)
		if ranks[f.Severity] >= least {
			t.Errorf("%s", text)
		} else {
			t.Logf("%s", text)
		}
	}
	for id := range o.accepted {
		t.Logf("recordtest: %s is accepted and was not found", id)
	}
}
