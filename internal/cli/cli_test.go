package cli_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/cli"
)

var update = flag.Bool("update", false, "rewrite the expected output in the scripts")

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"keenlantern": func() {
			code := cli.Main(interruptible(), cli.IO{Out: os.Stdout, Err: os.Stderr, Env: os.Getenv, Terminal: os.Getenv(onTerminal) != ""}, os.Args[1:])
			noteCoverage(m)
			os.Exit(code)
		},
	})
}

// noteCoverage writes what a command ran of the program, where that is measured: only a test binary that runs tests does so, so
// it runs none.
func noteCoverage(m *testing.M) {
	folder := os.Getenv("GOCOVERDIR")
	nowhere, err := os.OpenFile(os.DevNull, os.O_WRONLY, 0)
	if folder == "" || err != nil {
		return
	}
	os.Stdout, os.Stderr = nowhere, nowhere
	os.Args = []string{os.Args[0], "-test.run=^$", "-test.gocoverdir=" + folder}
	m.Run()
}

// TestScripts runs the commands as users do, each script in its own folder with the sample trace.
func TestScripts(t *testing.T) {
	sample, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	office, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	testscript.Run(t, testscript.Params{
		Dir:           "testdata",
		UpdateScripts: *update,
		Setup: func(e *testscript.Env) error {
			e.Vars = append(e.Vars, "TZ=UTC", "NO_COLOR=1", "KEENLANTERN_SERVER=http://127.0.0.1:1", "GOCOVERDIR="+os.Getenv("GOCOVERDIR"))
			e.Values["service"] = new(*browser.Service)
			if err := os.WriteFile(filepath.Join(e.WorkDir, "office.ndjson"), office, 0o644); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(e.WorkDir, "harbour.ndjson"), sample, 0o644)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"server": server, "narrow": narrow},
	})
}

// onTerminal is what is set while a command is to take its output for a terminal.
const onTerminal = "TEST_TERMINAL"

// TestQuestions asks each question of testdata/questions of the sample beside it.
func TestQuestions(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "../../testdata/questions",
		Setup: func(e *testscript.Env) error {
			e.Vars = append(e.Vars, "TZ=UTC", "NO_COLOR=1", "KEENLANTERN_SERVER=http://127.0.0.1:1", "GOCOVERDIR="+os.Getenv("GOCOVERDIR"))
			return nil
		},
	})
}

// narrow runs a command as on a terminal and checks that it writes nothing wider than 120 columns.
func narrow(ts *testscript.TestScript, _ bool, args []string) {
	ts.Setenv(onTerminal, "yes")
	ts.Check(ts.Exec("keenlantern", args...))
	ts.Setenv(onTerminal, "")
	for line := range strings.Lines(ts.ReadFile("stdout")) {
		if n := utf8.RuneCountInString(strings.TrimSuffix(line, "\n")); n > 120 {
			ts.Fatalf("%d columns: %s", n, line)
		}
	}
}

// TestExamples runs the example of every command that has one on a trace file, just as its help shows it.
func TestExamples(t *testing.T) {
	t.Chdir("../..")
	env := func(name string) string { return map[string]string{"NO_COLOR": "1"}[name] }
	ran := 0
	for _, line := range strings.Split(said(t, env, "help"), "\n") {
		name, _, ok := strings.Cut(strings.TrimPrefix(line, "  "), " ")
		if !ok || !strings.HasPrefix(line, "  ") {
			continue
		}
		_, example, ok := strings.Cut(said(t, env, name, "--help"), "example:\n  keenlantern ")
		require.True(t, ok, name)
		if !strings.Contains(example, "testdata/") || name == "import" { // which needs a service
			continue
		}
		ran++
		args := []string{}
		for n, part := range strings.Split(strings.TrimSpace(example), "'") {
			if n%2 == 1 {
				args = append(args, part)
			} else {
				args = append(args, strings.Fields(part)...)
			}
		}
		assert.NotEmpty(t, said(t, env, args...), example)
	}
	assert.Greater(t, ran, 8)
}

// said runs a command in this process and returns what it printed.
func said(t *testing.T, env func(string) string, args ...string) string {
	t.Helper()
	var out, errs strings.Builder
	status := cli.Main(t.Context(), cli.IO{Out: &out, Err: &errs, Env: env}, args)
	require.Less(t, status, cli.WrongUsage, "%v: %s", args, errs.String())
	return out.String()
}
