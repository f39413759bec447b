package views

import (
	"time"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
)

// Recording is what is known of a recording besides its streams.
type Recording struct {
	ID, App, Version, Environment string
	Source                        string // "live" or "file"
	Created                       time.Time
}

// Summary is what a list shows of a recording.
type Summary struct {
	ID          string         `json:"id"`
	App         string         `json:"app"`
	Version     string         `json:"version"`
	Environment string         `json:"environment"`
	Source      string         `json:"source"` // "live" or "file"
	State       string         `json:"state"`  // "running", "importing", "ended", "silent", "cut off", "broken"
	Created     string         `json:"created"`
	Start       string         `json:"start"` // of the first stream
	LastedNS    int64          `json:"lasted_ns"`
	Streams     int            `json:"streams"`
	Figures     engine.Figures `json:"figures"`
	Findings    Tally          `json:"findings"`
	Worst       string         `json:"worst"` // "" if nothing was found
	Health      Overall        `json:"health"`
	AcceptedBy  string         `json:"accepted_by"` // sums up which findings the contract accepts that were left out; "" for none
	Stale       int            `json:"stale"`       // streams that another version, or other settings, analysed, and that are being reanalysed
	DerivedBy   string         `json:"derived_by"`  // the derivation key of what is shown; "" while some of it is stale

	// What people set.
	Name   string            `json:"name"`
	Pinned bool              `json:"pinned"`
	Labels map[string]string `json:"labels"`
}

// Change is what people can set of a recording; nil leaves it as it is.
type Change struct {
	Name   *string           `json:"name"`
	Pinned *bool             `json:"pinned"`
	Labels map[string]string `json:"labels"`
}

// Tally counts findings by severity.
type Tally struct {
	Error   int `json:"error"`
	Warning int `json:"warning"`
	Note    int `json:"note"`

	Accepted int `json:"accepted"` // by the contract that the service holds; they are not among the others
}

// Overall is the health of all streams together.
type Overall struct {
	Whole        bool    `json:"whole"`
	Lines        int64   `json:"lines"`
	Refused      int64   `json:"refused"`
	UnknownKinds int64   `json:"unknown_kinds"`
	Unresolved   int64   `json:"unresolved"`
	Lost         int64   `json:"lost"`
	CutOff       int     `json:"cut_off"` // streams
	Broken       int     `json:"broken"`  // streams whose analysis broke off
	Why          string  `json:"why"`     // of the first of them
	NamesOver    int64   `json:"names_over"`
	Flattened    int64   `json:"flattened"`
	Abandoned    int64   `json:"abandoned"`
	Sampled      float64 `json:"sampled"` // the least share of any stream
}

// Summarise adds a recording's streams up. Severities are those of its findings by their ids; accepted ones are counted apart.
func Summarise(rec Recording, streams []engine.Info, severities map[string]finding.Severity, accepted map[string]string) Summary {
	s := Summary{
		ID: rec.ID, App: rec.App, Version: rec.Version, Environment: rec.Environment, Source: rec.Source,
		Created: rec.Created.UTC().Format(time.RFC3339Nano), Streams: len(streams),
		Health: Overall{Whole: true, Sampled: 1},
	}
	ended := 0
	for n := range streams {
		i := &streams[n]
		if n == 0 {
			s.Start = i.Start
		}
		s.LastedNS = max(s.LastedNS, i.Lasted)
		s.Figures.Events += i.Figures.Events
		s.Figures.Scopes += i.Figures.Scopes
		s.Figures.Instances += i.Figures.Instances
		s.Figures.Registrations = max(s.Figures.Registrations, i.Figures.Registrations)
		s.Figures.Alive += i.Figures.Alive
		s.Health.add(&i.Health)
		if i.Broken != nil {
			if s.Health.Broken++; s.Health.Broken == 1 {
				s.Health.Why = i.Broken.Error()
			}
			s.Health.Whole = false
		}
		if i.Ended {
			ended++
		}
	}
	var worst finding.Severity
	for id, severity := range severities {
		if _, ok := accepted[id]; ok {
			s.Findings.Accepted++
			continue
		}
		worst = max(worst, severity)
		s.Findings.add(severity)
	}
	if worst != 0 {
		s.Worst = worst.String()
	}
	switch {
	case s.Health.Broken > 0:
		s.State = "broken"
	case ended == len(streams) && ended > 0:
		s.State = "ended"
	case s.Health.CutOff > 0 && s.Health.CutOff+ended == len(streams):
		s.State = "cut off"
	default:
		s.State = "silent"
	}
	return s
}

func (o *Overall) add(h *engine.Health) {
	o.Whole = o.Whole && h.Whole()
	o.Lines += h.Lines
	o.Refused += h.Refused
	o.UnknownKinds += h.UnknownKinds
	o.Unresolved += h.Unresolved
	o.Lost += h.Lost
	o.NamesOver += h.NamesOver
	o.Flattened += h.Flattened
	o.Abandoned += h.Abandoned
	o.Sampled = min(o.Sampled, h.Sampled)
	if h.CutOff {
		o.CutOff++
	}
}

// RecordingList is a page of recordings, newest first.
type RecordingList struct {
	Recordings []Summary `json:"recordings"`
	Total      int       `json:"total"`
}

// RecordingDetail is a recording with its streams.
type RecordingDetail struct {
	Summary
	StreamList []engine.Info `json:"stream_list"`
}

// FindingDetail is one finding of a recording, with what its examples are drawn from.
type FindingDetail struct {
	Recording string `json:"recording"`
	*finding.Finding
}

// Adopted reports a request to accept today's findings.
type Adopted struct {
	Application string `json:"application"`
	Accepted    int    `json:"accepted"` // newly accepted findings
	Before      int    `json:"before"`   // and that were before
	Until       string `json:"until"`    // the last day, as in 2027-03-31
}

// HeldContract is the contract that a service holds for an application.
type HeldContract struct {
	Application string `json:"application"`
	Text        string `json:"text"` // YAML
	Put         string `json:"put"`  // RFC 3339: when it was given to the service
}
