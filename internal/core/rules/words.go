package rules

import (
	"fmt"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// sentence is fmt.Sprintf by the name of what it makes here.
func sentence(format string, args ...any) string {
	return fmt.Sprintf(format, args...)
}

// count and number are finding's, by a shorter name: sentences are full of them.
func count(n int64, one, many string) string { return finding.Count(n, one, many) }
func number(n int64) string                  { return finding.Number(n) }

func times(n int64) string {
	switch n {
	case 1:
		return "once"
	case 2:
		return "twice"
	}
	return number(n) + " times"
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// article puts a or an before a name.
func article(name string) string { return finding.Article(name) + " " + name }

// lifetimeOf returns "a singleton", or what is known instead.
func lifetimeOf(r finding.Ref) string {
	switch r.Lifetime {
	case "":
		return "which lives longer"
	case "singleton":
		return "a singleton"
	case "per-consumer":
		return "one for each consumer"
	case "external":
		return "built outside the container"
	case "scoped":
		return "scoped to an outer scope"
	}
	return article(r.Lifetime)
}

// place returns " (wiring.go:34)", or nothing.
func place(r finding.Ref) string {
	if r.Place() == "" {
		return ""
	}
	return " (" + r.Place() + ")"
}

// implementedBy returns ", built as RosterBoard,", or nothing where that adds nothing.
func implementedBy(r finding.Ref) string {
	if impl := r.Impl(); impl != "" && impl != r.Service {
		return " (" + impl + ")"
	}
	return ""
}

// list returns "a", "a and b", "a, b and c".
func list(names []string) string {
	switch n := len(names); n {
	case 0:
		return ""
	case 1:
		return names[0]
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}

func names(refs []finding.Ref) string {
	out := make([]string, len(refs))
	for n, r := range refs {
		out[n] = r.Name()
	}
	return list(out)
}

// among returns " (GET /pilots)", or nothing where there are no names or too many to help.
func among(names []string) string {
	if len(names) == 0 || len(names) > 3 {
		return ""
	}
	return " (" + list(names) + ")"
}

// commaBefore sets off what follows, if anything does.
func commaBefore(s string) string {
	if s == "" {
		return ""
	}
	return "," + s
}
