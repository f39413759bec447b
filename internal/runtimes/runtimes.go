// Package runtimes reports to tests of recorders whether another runtime is installed.
package runtimes

import (
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// Need skips a test where a runtime's program is not installed or what the test runs has not been built. It fails instead where
// all runtimes are required (KEENLANTERN_RUNTIMES=required, or CI), but for those that KEENLANTERN_WITHOUT names: "jvm" stands for
// jvm-spring too.
func Need(t *testing.T, runtime, program, built string) {
	t.Helper()
	if testing.Short() {
		t.Skip("it starts processes")
	}
	why := ""
	if _, err := exec.LookPath(program); err != nil {
		why = program + " is not installed here"
	} else if _, err := os.Stat(built); err != nil {
		why = built + " has not been built; 'make recorders' builds it"
	}
	if why == "" {
		return
	}
	without := strings.Split(os.Getenv("KEENLANTERN_WITHOUT"), ",")
	required := os.Getenv("KEENLANTERN_RUNTIMES") == "required" || os.Getenv("CI") != ""
	if required && !slices.ContainsFunc(without, func(w string) bool { return runtime == w || strings.HasPrefix(runtime, w+"-") }) {
		t.Fatal(why)
	}
	t.Skip("left out: " + why)
}
