package cli

import (
	"context"
	"fmt"
	"strings"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/report"
)

// ruleInfo is a rule as `rules --format json` prints it.
type ruleInfo struct {
	ID       string   `json:"id"`
	Severity string   `json:"severity"` // the gravest
	Basis    string   `json:"basis"`
	Reports  string   `json:"reports"`
	Not      string   `json:"not"`
	Needs    []string `json:"needs"` // what a recorder has to see
}

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
	list := []ruleInfo{}
	for _, r := range rules.All {
		if len(words) == 0 || strings.HasPrefix(r.ID, words[0]) {
			needs := append([]string{}, r.Needs.Names()...)
			list = append(list, ruleInfo{r.ID, r.Severity.String(), string(r.Basis), r.Doc, r.Not, needs})
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
	f := newFlags(std, "version", "version", "Prints the version.", "keenlantern version")
	if _, err := f.parse(args, 0, 0); err != nil {
		return err
	}
	fmt.Fprintln(std.Out, "keenlantern", Version)
	return nil
}
