package report

import (
	"fmt"
	"io"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/finding"
)

var statusLabels = map[contract.Status]string{contract.Kept: "kept", contract.Broken: "BROKEN", contract.NotSeen: "not seen"}

var statusColours = map[contract.Status]string{contract.Broken: red + bold, contract.NotSeen: amber}

// Contract writes what became of a contract's clauses for people: the broken ones with their evidence, then those that were not seen,
// then the kept ones in a line each.
func Contract(out io.Writer, r *contract.Report, s Style) {
	fmt.Fprintf(out, "%s, held against %s\n", s.paint(bold, Clean(r.Contract)), Clean(r.Recording))
	for _, c := range r.Caveats {
		wrapped(out, "  note:", indent, s.width(), Clean(c))
	}
	for n := range r.Clauses {
		c := &r.Clauses[n]
		if n == 0 || c.Status != r.Clauses[n-1].Status || c.Status == contract.Broken {
			fmt.Fprintln(out)
		}
		label := statusLabels[c.Status]
		fmt.Fprintf(out, "%s%s %s\n", s.paint(statusColours[c.Status], label), strings.Repeat(" ", indent-1-len(label)), Clean(c.Says))
		if c.Status == contract.Kept {
			continue
		}
		wrapped(out, "", indent, s.width(), Clean(c.Why))
		if c.Finding == nil {
			continue
		}
		row := func(name, text string) {
			if text != "" {
				wrapped(out, "  "+name, indent, s.width(), Clean(text))
			}
		}
		if c.Finding.Subject.At != nil {
			row("at", s.place(&c.Finding.Subject))
		}
		row("fix", c.Finding.Fix)
		for k := range c.Finding.Examples {
			if k == 2 {
				break
			}
			row("as in", exampleLine(c.Finding.Examples[k]))
		}
	}
	acceptedLines(out, r, s)
	fmt.Fprintf(out, "\n%s: %d broken, %d not seen, %d kept.\n", finding.Count(int64(len(r.Clauses)), "clause", "clauses"), r.Broken, r.NotSeen, r.Kept)
}

func acceptedLines(out io.Writer, r *contract.Report, s Style) {
	for n, a := range r.Accepted {
		if n == 0 {
			fmt.Fprintln(out)
		}
		switch a.Status {
		case "accepted":
			wrapped(out, "accepted", indent, s.width(), Clean(fmt.Sprintf("%s until %s: %s (%s)", a.Finding, a.Until, a.Reason, a.Title)))
		case "expired":
			wrapped(out, s.paint(amber, "expired"), indent, s.width(), Clean(fmt.Sprintf("%s was accepted until %s and counts again: %s (%s)", a.Finding, a.Until, a.Reason, a.Title)))
		default:
			wrapped(out, "gone", indent, s.width(), Clean(fmt.Sprintf("%s was not found any more; take it out of %s, line %d", a.Finding, r.Contract, a.Line)))
		}
	}
}

// ContractSummary writes what findings do not show: which clauses the recording does not show, and what became of accepted findings.
func ContractSummary(out io.Writer, r *contract.Report, s Style) {
	for n := range r.Clauses {
		if c := &r.Clauses[n]; c.Status == contract.NotSeen {
			wrapped(out, s.paint(amber, "not seen"), indent, s.width(), Clean(c.Says+". "+c.Why))
		}
	}
	acceptedLines(out, r, s)
	fmt.Fprintf(out, "%s: %d broken, %d not seen, %d kept.\n", Clean(r.Contract), r.Broken, r.NotSeen, r.Kept)
}

// ContractJUnit writes a test case for each clause; one that was not seen is skipped or, where strict, a failure.
func ContractJUnit(out io.Writer, r *contract.Report, strict bool) error {
	suite := junitSuite{Name: "contract of " + r.Application}
	for n := range r.Clauses {
		c := &r.Clauses[n]
		one := junitCase{Class: "contract/" + string(c.Kind), Name: fmt.Sprintf("%s [line %d]", c.Says, c.Line)}
		switch {
		case c.Status == contract.Broken || c.Status == contract.NotSeen && strict:
			one.Failure = &junitFailure{string(c.Status), c.Why, c.Why}
			suite.Failures++
		case c.Status == contract.NotSeen:
			one.Skipped = &junitSkipped{c.Why}
			suite.Skipped++
		}
		suite.Cases = append(suite.Cases, one)
	}
	suite.Tests = len(suite.Cases)
	return suite.write(out)
}

// ContractCSV writes a row for each clause.
func ContractCSV(out io.Writer, r *contract.Report) error {
	rows := [][]string{{"status", "kind", "id", "clause", "why", "contract_line", "service", "implementation", "at", "lines"}}
	for n := range r.Clauses {
		c := &r.Clauses[n]
		row := []string{string(c.Status), string(c.Kind), c.ID, c.Says, c.Why, strconv.Itoa(c.Line), "", "", "", ""}
		if f := c.Finding; f != nil {
			lines := make([]string, len(f.Examples))
			for k := range f.Examples {
				lines[k] = strconv.FormatInt(f.Examples[k].Line, 10)
			}
			row[6], row[7], row[8], row[9] = f.Subject.Name(), f.Subject.Impl(), f.Subject.Place(), strings.Join(lines, " ")
		}
		rows = append(rows, row)
	}
	return writeCSV(out, rows)
}
