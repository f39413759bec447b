package cli

import (
	"context"
	"fmt"
	"os"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/report"
)

func importFile(ctx context.Context, std IO, args []string) error {
	f := newFlags(std, "import", "import FILE… [options]",
		"Sends trace files to the service; each becomes a separate recording. They may be gzip or zstd.",
		"keenlantern import testdata/harbour.ndjson")
	server := f.serverFlag()
	format := f.formatFlag("text", "json")
	names, err := f.parse(args, 1, -1)
	if err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	for _, name := range names {
		file, err := os.Open(name)
		if err != nil {
			return fmt.Errorf("read %s: %w", name, err)
		}
		p := startProgress(std, name, file)
		s, err := ask(*server).PutFile(ctx, p)
		p.end()
		file.Close() // it was only read
		if err != nil {
			return fmt.Errorf("import %s: %w", name, err)
		}
		if *format == "json" {
			if err := report.JSON(std.Out, s); err != nil {
				return err
			}
			continue
		}
		fmt.Fprintf(std.Out, "%s: recording %s, %s, found %s\n", name, s.ID, finding.Count(s.Figures.Events, "event", "events"), tally(s.Findings))
	}
	return nil
}
