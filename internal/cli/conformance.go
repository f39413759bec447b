package cli

import (
	"context"
	"fmt"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/report"
)

// checkConformance looks at one trace as the work of a recorder.
func checkConformance(ctx context.Context, std IO, format string, names []string) error {
	if len(names) != 1 {
		return &usageError{"--conformance looks at one trace file at a time"}
	}
	if err := oneOf("format", format, "text", "json"); err != nil {
		return err
	}
	in, err := open(names[0])
	if err != nil {
		return err
	}
	defer in.Close()
	r, err := conform.Check(&stoppable{ctx, in})
	if err != nil {
		return fmt.Errorf("read %s: %w", names[0], err)
	}
	if format == "json" {
		err = report.JSON(std.Out, r)
	} else {
		report.Conformance(std.Out, r, std.style())
	}
	if err == nil && !r.Conforms {
		return status(Found)
	}
	return err
}
