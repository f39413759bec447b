package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/notices"
	"keenlantern.example/internal/report"
)

func listRules(_ context.Context, std IO, args []string) error {
	f := newFlags(std, "rules", "rules [RULE] [options]", "Lists the rules: what each reports, and what it does not.", "keenlantern rules captive/scoped")
	format := f.formatFlag("text", "json")
	words, err := f.parse(args, 0, 1)
	if err != nil {
		return err
	}
	if err := oneOf("format", *format, "text", "json"); err != nil {
		return err
	}
	list := []views.RuleDoc{}
	for _, r := range views.Rules() {
		if len(words) == 0 || strings.HasPrefix(r.ID, words[0]) {
			list = append(list, r)
		}
	}
	if len(list) == 0 {
		return &usageError{fmt.Sprintf("there is no rule %q; 'keenlantern rules' lists them", words[0])}
	}
	if *format == "json" {
		return report.JSON(std.Out, list)
	}
	for n, r := range list {
		if n > 0 {
			fmt.Fprintln(std.Out)
		}
		report.Rule(std.Out, r.ID, r.Severity, r.Basis, r.Reports, r.Not, r.Needs, std.style())
	}
	return nil
}

func version(_ context.Context, std IO, args []string) error {
	f := newFlags(std, "version", "version [options]", "Prints the version.", "keenlantern version")
	licences := f.Bool("licences", false, "print the licences of the libraries in the program and its console")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	if *licences {
		_, err := io.WriteString(std.Out, notices.Text)
		return err
	}
	fmt.Fprintln(std.Out, "keenlantern", Version)
	return nil
}
