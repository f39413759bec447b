// Command keenlantern is the service and its client; see 'keenlantern help'.
package main

import (
	"context"
	"os"
	"os/signal"
	"strconv"
	"syscall"

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
	if info, err := os.Stdout.Stat(); err == nil && info.Mode()&os.ModeCharDevice != 0 {
		std.Terminal = true
		std.Width, _ = strconv.Atoi(os.Getenv("COLUMNS")) // 0, and so the default, where it is not exported
	}
	if info, err := os.Stderr.Stat(); err == nil && info.Mode()&os.ModeCharDevice != 0 {
		std.Watched = os.Getenv("TERM") != "dumb"
	}
	return std
}
