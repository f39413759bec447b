package rules

import (
	"fmt"
	"slices"
	"strings"

	"keenlantern.example/internal/core/ledger"
)

// Settings are the thresholds and lists that rules use. Default returns those of docs/findings.md.
type Settings struct {
	PileInRoot     int      `json:"pile_in_root" yaml:"pile_in_root"`       // disposal/pile-up: transients alive at once in the root
	PileInScope    int      `json:"pile_in_scope" yaml:"pile_in_scope"`     // and in any other scope
	RebuiltScopes  int64    `json:"rebuilt_scopes" yaml:"rebuilt_scopes"`   // sharing/rebuilt: scopes of one name, at least
	RebuiltMS      float64  `json:"rebuilt_ms" yaml:"rebuilt_ms"`           // median of its own construction time, at least
	RebuiltPercent float64  `json:"rebuilt_percent" yaml:"rebuilt_percent"` // of the scopes' time, at least
	UnusedFills    int64    `json:"unused_fills" yaml:"unused_fills"`       // inject/unused: makes, or scopes of a singleton
	AbsentMakes    int64    `json:"absent_makes" yaml:"absent_makes"`       // inject/absent: makes
	OpenScopes     int64    `json:"open_scopes" yaml:"open_scopes"`         // disposal/unclosed-scope, live: closed ones of its name
	OpenTimes      int64    `json:"open_times" yaml:"open_times"`           // and how many times their 99th percentile
	StandIns       []string `json:"stand_ins" yaml:"stand_ins"`             // inject/stand-in: words
	NoLayers       []string `json:"no_layers" yaml:"no_layers"`             // layers/key-left-out: keys that need none, as "TideSource [model]"
	Shareable      []string `json:"shareable" yaml:"shareable"`             // implementations that two scopes may use at once
	NotShareable   []string `json:"not_shareable" yaml:"not_shareable"`     // and that they must not
}

// Default returns the settings of the contract.
func Default() Settings {
	return Settings{
		PileInRoot: 10, PileInScope: 1000, RebuiltScopes: 50, RebuiltMS: 1, RebuiltPercent: 5, UnusedFills: 20, AbsentMakes: 5,
		OpenScopes: 20, OpenTimes: 10, StandIns: []string{"Stub", "Mock", "Fake", "Dummy", "Sample", "InMemory"},
	}
}

// Check returns an error that names the first setting that cannot be meant.
func (s *Settings) Check() error {
	for _, one := range []struct {
		name  string
		value float64
	}{
		{"pile_in_root", float64(s.PileInRoot)}, {"pile_in_scope", float64(s.PileInScope)}, {"rebuilt_scopes", float64(s.RebuiltScopes)},
		{"rebuilt_ms", s.RebuiltMS}, {"rebuilt_percent", s.RebuiltPercent}, {"unused_fills", float64(s.UnusedFills)},
		{"absent_makes", float64(s.AbsentMakes)}, {"open_scopes", float64(s.OpenScopes)}, {"open_times", float64(s.OpenTimes)},
	} {
		if !(one.value > 0) {
			return fmt.Errorf("setting %s is %v; it has to be more than 0", one.name, one.value)
		}
	}
	for _, impl := range s.Shareable {
		if slices.Contains(s.NotShareable, impl) {
			return fmt.Errorf("%s stands both in shareable and in not_shareable", impl)
		}
	}
	return nil
}

// needsNoLayers reports whether a registration needs no layers by the settings, by its service and key.
func (s *Settings) needsNoLayers(r *ledger.Registration) bool {
	if len(s.NoLayers) == 0 {
		return false
	}
	name := strings.ReplaceAll(r.Ref("").Name(), " ", "")
	return slices.ContainsFunc(s.NoLayers, func(bare string) bool { return strings.ReplaceAll(bare, " ", "") == name })
}

// mustNotShare reports whether two scopes must not use i at the same time: by the settings, else by
// its registration says.
func (s *Settings) mustNotShare(i *ledger.Instance) bool {
	if len(s.Shareable)+len(s.NotShareable) > 0 {
		impl := i.Impl()
		if slices.Contains(s.NotShareable, impl) {
			return true
		}
		if slices.Contains(s.Shareable, impl) {
			return false
		}
	}
	return i.Reg != nil && i.Reg.SharingKnown && !i.Reg.Shareable
}

// by notes in a finding which setting it used.
func by(found Case, name string, value any) {
	found.Fact("setting", fmt.Sprintf("%s %v", name, value))
}
