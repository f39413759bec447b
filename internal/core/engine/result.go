package engine

import (
	"fmt"
	"strings"

	"keenlantern.example/internal/core/finding"
)

// Figures are how much a stream holds.
type Figures struct {
	Events        int64 `json:"events"`
	Scopes        int64 `json:"scopes"`
	Instances     int64 `json:"instances"`
	Registrations int64 `json:"registrations"`
	Alive         int64 `json:"alive"`
}

// Info is one stream: its hello, how much it holds, and its health.
type Info struct {
	App         string            `json:"app"`
	Stream      string            `json:"stream"`
	Environment string            `json:"environment"`
	Version     string            `json:"version,omitempty"`
	Language    string            `json:"language,omitempty"`
	Host        string            `json:"host,omitempty"`
	Recorder    string            `json:"recorder,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	Start       string            `json:"start"`
	Ended       bool              `json:"ended"`
	Lasted      int64             `json:"lasted_ns"`
	Figures     Figures           `json:"figures"`
	Health      Health            `json:"health"`
	Broken      *Broken           `json:"broken,omitempty"`
}

// Format names the shape of a Result.
const Format = "lantern-findings/1"

// Result is what was found in one or more streams.
type Result struct {
	Format   string             `json:"format"`
	Streams  []Info             `json:"streams"`
	Findings []*finding.Finding `json:"findings"`
	Accepted []Accepted         `json:"accepted,omitempty"` // findings that a contract accepts; they are not among Findings
}

// Accepted is a finding that people know of and live with for now.
type Accepted struct {
	Finding *finding.Finding `json:"finding"`
	Reason  string           `json:"reason"`
}

// Without returns the result with those findings listed apart that are accepted, by their ids, with the reasons.
func (r *Result) Without(accepted map[string]string) *Result {
	out := *r
	out.Findings, out.Accepted = []*finding.Finding{}, []Accepted{}
	for _, f := range r.Findings {
		if reason, ok := accepted[f.ID]; ok {
			out.Accepted = append(out.Accepted, Accepted{Finding: f, Reason: reason})
			continue
		}
		out.Findings = append(out.Findings, f)
	}
	return &out
}

// maxRefusals is how many refused lines are shown.
const maxRefusals = 20

// Refusal is one line that could not be used.
type Refusal struct {
	Line int64  `json:"line"`
	Why  string `json:"why"`
}

// Health is what a reader could not use. Lines = used + Refused + UnknownKinds + Unresolved + Held + Unread.
type Health struct {
	Lines        int64     `json:"lines"` // that are not empty
	Used         int64     `json:"used"`
	Refused      int64     `json:"refused"`
	Refusals     []Refusal `json:"refusals"` // the first few
	UnknownKinds int64     `json:"unknown_kinds"`
	Unresolved   int64     `json:"unresolved"` // lines about an id that never came
	Held         int64     `json:"held"`       // still waiting for an id
	Unread       int64     `json:"unread"`     // from where the analysis broke off
	NamesOver    int64     `json:"names_over"` // names over their bound, which are counted together or left out
	Flattened    int64     `json:"flattened"`  // scopes nested too deeply, which are taken to lie further out
	Abandoned    int64     `json:"abandoned"`  // searches for who keeps an instance that were too long to be ended
	Lost         int64     `json:"lost"`       // events the recorder dropped
	CutOff       bool      `json:"cut_off"`    // ended without bye
	Sampled      float64   `json:"sampled"`    // share of scopes recorded
	Silent       []string  `json:"silent"`     // rules whose evidence the recorder cannot see
}

// Whole reports whether nothing is missing.
func (h *Health) Whole() bool {
	return h.Refused == 0 && h.UnknownKinds == 0 && h.Unresolved == 0 && h.Unread == 0 && h.NamesOver == 0 && h.Flattened == 0 && h.Abandoned == 0 && h.Lost == 0 && !h.CutOff && h.Sampled == 1
}

// Balance returns an error if the lines do not add up: each is used, refused, unknown, unresolved, held or unread.
func (h *Health) Balance() error {
	if sum := h.Used + h.Refused + h.UnknownKinds + h.Unresolved + h.Held + h.Unread; sum != h.Lines {
		return fmt.Errorf("%d lines, but %d used + %d refused + %d unknown + %d unresolved + %d held + %d unread = %d",
			h.Lines, h.Used, h.Refused, h.UnknownKinds, h.Unresolved, h.Held, h.Unread, sum)
	}
	return nil
}

// Finding returns the finding with this id, or with an id that begins so if there is just one.
func (r *Result) Finding(id string) (*finding.Finding, error) {
	var found *finding.Finding
	for _, f := range r.Findings {
		if f.ID == id {
			return f, nil
		}
		if id != "" && strings.HasPrefix(f.ID, id) {
			if found != nil {
				return nil, fmt.Errorf("several findings begin with %q", id)
			}
			found = f
		}
	}
	if found == nil {
		return nil, fmt.Errorf("there is no finding %q", id)
	}
	return found, nil
}

// Worst returns the gravest severity among the findings, 0 if there are none.
func (r *Result) Worst() finding.Severity {
	var worst finding.Severity
	for _, f := range r.Findings {
		worst = max(worst, f.Severity)
	}
	return worst
}

// AtLeast returns the findings of this severity ("error", "warning", "note") and above.
func AtLeast(list []*finding.Finding, severity string) []*finding.Finding {
	var least finding.Severity
	_ = least.UnmarshalText([]byte(severity)) // it takes any text; an unknown one is a note
	out := []*finding.Finding{}
	for _, f := range list {
		if f.Severity >= least {
			out = append(out, f)
		}
	}
	return out
}
