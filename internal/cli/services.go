package cli

import (
	"context"

	"keenlantern.example/internal/report"
)

func services(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "services", "services [options]",
		"Lists the services that share a log: which partitions each works on, how far it is behind, and its version. Ask any of them.",
		"keenlantern services --server http://lantern-1:7460")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	list, err := ask(*server).Services(ctx)
	if err != nil {
		return err
	}
	if *format == "json" {
		return report.JSON(std.Out, list)
	}
	report.Services(std.Out, list, std.style())
	return nil
}
