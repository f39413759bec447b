package report

import (
	"io"
	"regexp"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

// The parts of SARIF 2.1.0 (OASIS) that findings have a use for.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool    sarifTool     `json:"tool"`
		Results []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name    string      `json:"name"`
		Version string      `json:"version,omitempty"`
		Rules   []sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string    `json:"id"`
		ShortDescription sarifText `json:"shortDescription"`
		Help             sarifText `json:"help"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID              string            `json:"ruleId"`
		Level               string            `json:"level"`
		Message             sarifText         `json:"message"`
		Locations           []sarifLocation   `json:"locations,omitempty"`
		RelatedLocations    []sarifLocation   `json:"relatedLocations,omitempty"`
		PartialFingerprints map[string]string `json:"partialFingerprints"`
		Suppressions        []sarifSuppressed `json:"suppressions,omitempty"`
	}
	sarifSuppressed struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifLocation struct {
		PhysicalLocation *sarifPhysical `json:"physicalLocation,omitempty"`
		LogicalLocations []sarifLogical `json:"logicalLocations,omitempty"`
		Message          *sarifText     `json:"message,omitempty"`
	}
	sarifPhysical struct {
		ArtifactLocation sarifArtifact `json:"artifactLocation"`
		Region           *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine int `json:"startLine"`
	}
	sarifLogical struct {
		FullyQualifiedName string `json:"fullyQualifiedName"`
	}
)

// RuleText is what a report says of a rule.
type RuleText struct{ ID, Reports, Not string }

// SARIF writes findings as SARIF 2.1.0, each located at the registrations it is about.
func SARIF(out io.Writer, r *engine.Result, version string, rules []RuleText) error {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "Keen Lantern", Version: version, Rules: []sarifRule{}}}, Results: []sarifResult{}}
	for _, rule := range rules {
		run.Tool.Driver.Rules = append(run.Tool.Driver.Rules, sarifRule{rule.ID, sarifText{rule.Reports}, sarifText{rule.Reports + " Not: " + rule.Not}})
	}
	for _, f := range causesFirst(r.Findings) {
		run.Results = append(run.Results, sarifOf(f))
	}
	for _, a := range r.Accepted {
		one := sarifOf(a.Finding)
		one.Suppressions = []sarifSuppressed{{"external", a.Reason}}
		run.Results = append(run.Results, one)
	}
	return JSON(&visible{out: out}, sarifLog{
		Schema: "https://json.schemastore.org/sarif-2.1.0.json", Version: "2.1.0", Runs: []sarifRun{run},
	})
}

func sarifOf(f *finding.Finding) sarifResult {
	one := sarifResult{
		RuleID: f.Rule, Level: f.Severity.String(), Message: sarifText{f.Title + ". " + f.Why + " " + f.Fix},
		Locations: []sarifLocation{location(f.Subject, "")}, PartialFingerprints: map[string]string{"keenlantern/1": f.ID},
	}
	if f.Holder != nil {
		one.RelatedLocations = append(one.RelatedLocations, location(*f.Holder, "the consumer"))
	}
	for _, at := range f.Facts["places"] {
		one.RelatedLocations = append(one.RelatedLocations, location(finding.Ref{Service: f.Subject.Service, Key: f.Subject.Key, At: finding.Text(at)}, "in the application's code"))
	}
	return one
}

var fileAndLine = regexp.MustCompile(`^(.+?):([0-9]{1,9})(?::[0-9]+)?$`)

func location(r finding.Ref, says string) sarifLocation {
	l := sarifLocation{LogicalLocations: []sarifLogical{{r.Name()}}}
	if says != "" {
		l.Message = &sarifText{says}
	}
	if m := fileAndLine.FindStringSubmatch(r.Place()); m != nil {
		if line, err := strconv.Atoi(m[2]); err == nil && line > 0 {
			l.PhysicalLocation = &sarifPhysical{sarifArtifact{escapeURI(m[1])}, &sarifRegion{line}}
		}
	}
	return l
}

// escapeURI makes a path a URI reference; what is in a trace may be anything.
func escapeURI(path string) string {
	const plain = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-._~/"
	out := make([]byte, 0, len(path))
	for n := range len(path) {
		c := path[n]
		switch {
		case c == '\\':
			out = append(out, '/')
		case strings.IndexByte(plain, c) >= 0:
			out = append(out, c)
		default:
			out = append(out, '%', "0123456789ABCDEF"[c>>4], "0123456789ABCDEF"[c&15])
		}
	}
	return string(out)
}
