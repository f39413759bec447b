package report

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

type (
	junitSuites struct {
		XMLName xml.Name     `xml:"testsuites"`
		Suites  []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string        `xml:"classname,attr"`
		Name    string        `xml:"name,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
		Skipped *junitSkipped `xml:"skipped,omitempty"`
		Output  string        `xml:"system-out,omitempty"`
	}
	junitSkipped struct {
		Message string `xml:"message,attr"`
	}
	junitFailure struct {
		Type    string `xml:"type,attr"`
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit writes a test case for every rule that found nothing and for every finding; a finding of at least the given
// severity is a failure, a lesser one is reported in its case's output.
func JUnit(out io.Writer, r *engine.Result, rules []RuleText, least finding.Severity) error {
	apps := []string{}
	for _, s := range r.Streams {
		if len(apps) == 0 || apps[len(apps)-1] != s.App {
			apps = append(apps, s.App)
		}
	}
	suite := junitSuite{Name: "keen lantern: " + strings.Join(apps, ", ")}
	byRule := map[string][]*finding.Finding{}
	for _, f := range r.Findings {
		byRule[f.Rule] = append(byRule[f.Rule], f)
	}
	for _, rule := range rules {
		if len(byRule[rule.ID]) == 0 {
			suite.Cases = append(suite.Cases, junitCase{Class: rule.ID, Name: "nothing found"})
			continue
		}
		for _, f := range byRule[rule.ID] {
			text := fmt.Sprintf("%s\n%s\n%s\n%s", f.Why, f.Fix, pathLine(f), seenLine(f))
			c := junitCase{Class: rule.ID, Name: f.Title + " [" + f.ID + "]"}
			if f.Severity >= least {
				c.Failure = &junitFailure{f.Severity.String(), f.Title, text}
				suite.Failures++
			} else {
				c.Output = f.Severity.String() + ": " + text
			}
			suite.Cases = append(suite.Cases, c)
		}
	}
	for _, a := range r.Accepted {
		f := a.Finding
		suite.Cases = append(suite.Cases, junitCase{Class: f.Rule, Name: f.Title + " [" + f.ID + "]", Skipped: &junitSkipped{"accepted: " + a.Reason}})
		suite.Skipped++
	}
	suite.Tests = len(suite.Cases)
	return suite.write(out)
}

func (s junitSuite) write(out io.Writer) error {
	if _, err := io.WriteString(out, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(&visible{out: out})
	enc.Indent("", "  ")
	if err := enc.Encode(junitSuites{Suites: []junitSuite{s}}); err != nil {
		return err
	}
	_, err := io.WriteString(out, "\n")
	return err
}
