// Command keenlantern is the service and its client; see 'keenlantern help'.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"golang.org/x/term"

	"keenlantern.example/internal/cli"
)

func main() { os.Exit(run()) }

func run() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return cli.Main(ctx, terminal(), os.Args[1:])
}

func terminal() cli.IO {
	std := cli.IO{Out: os.Stdout, Err: os.Stderr, Env: os.Getenv}
	if out := int(os.Stdout.Fd()); term.IsTerminal(out) {
		std.Terminal = true
		std.Width, _, _ = term.GetSize(out) // 0, and so the default, if the terminal does not report it
	}
	if term.IsTerminal(int(os.Stderr.Fd())) {
		std.Watched = os.Getenv("TERM") != "dumb"
	}
	return std
}
