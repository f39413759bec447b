package cli_test

import (
	"context"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/rogpeppe/go-internal/testscript"

	"keenlantern.example/internal/browser"
)

func interruptible() context.Context {
	ctx, _ := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	return ctx
}

// server starts a service whose data is in the script's folder, and makes it the one that commands ask; server stop
// ends it in order.
func server(ts *testscript.TestScript, neg bool, args []string) {
	const name = "service"
	running, _ := ts.Value(name).(**browser.Service)
	switch {
	case !neg && len(args) == 0:
		bin := ""
		for _, dir := range filepath.SplitList(ts.Getenv("PATH")) {
			if found, err := exec.LookPath(filepath.Join(dir, "keenlantern")); err == nil {
				bin = found
				break
			}
		}
		s, err := browser.Serve(bin, "serve", ts.MkAbs("data"))
		ts.Check(err)
		ts.Setenv("KEENLANTERN_SERVER", s.URL)
		*running = s
		ts.Defer(s.Kill)
	case !neg && strings.Join(args, " ") == "stop":
		ts.Check((*running).Stop())
	default:
		ts.Fatalf("usage: server [stop]")
	}
}
