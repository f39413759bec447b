package views

import "fmt"

import "keenlantern.example/internal/core/rules"

// RuleDoc is what a rule reports, and what it does not.
type RuleDoc struct {
	ID       string   `json:"id"`
	Severity string   `json:"severity"` // the gravest
	Basis    string   `json:"basis"`
	Reports  string   `json:"reports"`
	Not      string   `json:"not"`
	Needs    []string `json:"needs"` // what a recorder has to see
}

// Rules describes all rules, by family.
func Rules() []RuleDoc {
	list := make([]RuleDoc, 0, len(rules.All))
	for _, r := range rules.All {
		needs := append([]string{}, r.Needs.Names()...)
		list = append(list, RuleDoc{r.ID, r.Severity.String(), string(r.Basis), r.Doc, r.Not, needs})
	}
	return list
}

// ServiceInfo describes a service.
type ServiceInfo struct {
	Version     string `json:"version"`
	Tokens      bool   `json:"tokens"`       // requests need one
	Recordings  int    `json:"recordings"`   // that are kept
	StoredBytes int64  `json:"stored_bytes"` // of their traces, packed
	Streams     int    `json:"streams"`      // that are being recorded
	KeepForNS   int64  `json:"keep_for_ns"`  // after their last event; 0: for good
	KeepBytes   int64  `json:"keep_bytes"`   // 0: without bound
	Derivation  string `json:"derivation"`   // the key of what this service derives
	Stale       int64  `json:"stale"`        // streams that another one analysed, and that are being reanalysed
	Refreshed   int64  `json:"refreshed"`    // streams for which that has been done since the start

	Recorders map[string]string `json:"recorders"` // the address of each runtime's recorder that this service hands out
}

// ServiceList is the services that share a log.
type ServiceList struct {
	Shared     bool           `json:"shared"`        // false: the service works alone, on its data folder
	Log        string         `json:"log,omitempty"` // its name
	Partitions int            `json:"partitions"`    // of the log
	Free       int            `json:"free"`          // of them, that no service has taken
	Reading    int            `json:"reading"`       // whose services are still reading what they found
	Services   []ServiceState `json:"services"`
}

// ServiceState is one of them.
type ServiceState struct {
	ID         string `json:"id,omitempty"`
	Address    string `json:"address,omitempty"`
	Version    string `json:"version"`
	Derivation string `json:"derivation"` // the key of what it derives
	This       bool   `json:"this"`       // it is the one that was asked
	Partitions []int  `json:"partitions"`
	LagBatches int64  `json:"lag_batches"` // stored and not analysed
	LagNS      int64  `json:"lag_ns"`      // since the first of them was stored
	TakenOver  int64  `json:"taken_over"`  // partitions, since it began
	Started    string `json:"started,omitempty"`
	Streams    int    `json:"streams"` // in memory
}

// Stale records that a recording cannot be compared yet.
type Stale struct {
	Recording     string
	Streams, Left int
}

// Error returns what to wait for.
func (e *Stale) Error() string {
	return fmt.Sprintf("recording %s was analysed by another version of the service, or with other settings, and is being reanalysed: %d of its %d streams are left; compare it when that is done",
		e.Recording, e.Left, e.Streams)
}

// Fresh returns an error where a recording is being reanalysed: two that were analysed in different ways are not compared.
func (s *Source) Fresh() error {
	if s.Stale == 0 {
		return nil
	}
	return &Stale{s.Recording, len(s.Streams), s.Stale}
}

// Retention is what is deleted, and whether that is being held because the clock leapt.
type Retention struct {
	KeepForNS int64  `json:"keep_for_ns"` // after their last event; 0: for good
	KeepBytes int64  `json:"keep_bytes"`  // 0: without bound
	Held      bool   `json:"held"`        // nothing is deleted
	Why       string `json:"why"`         // "" unless held
}
