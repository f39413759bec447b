package engine

import (
	"fmt"
	"reflect"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/freeze"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/rules"
)

// Freeze packs the analysis as it is, to go on from there. It grows with what is alive and remembered. The bytes mean
// something to this very program only, to a stream made with the same settings.
func (s *Analysis) Freeze() ([]byte, error) {
	set := s.frozen()
	b, err := set.Freeze()
	if err != nil {
		return nil, fmt.Errorf("pack the analysis of stream %s: %w", s.world.Stream.Stream, err)
	}
	return b, nil
}

// Thaw makes a new stream what one was that Freeze packed. After an error it must not be used.
func (s *Analysis) Thaw(b []byte) error {
	set := s.frozen()
	if err := set.Thaw(b); err != nil {
		return fmt.Errorf("go on with an analysis: %w", err)
	}
	return nil
}

func (s *Analysis) frozen() freeze.Set {
	f := freeze.Set{
		Roots: []any{s.order, s.world, s.found, s.tracker, s.facts, s.known, &s.health, &s.finished},
		Fixed: append(ledger.Fixed(), s.set),
		Types: slices.Concat([]any{&kase{}}, facts.Hung(), rules.Hung(), derive.Hung()),
	}
	for _, w := range s.all {
		// A rule that another one judges along with its own has nothing to remember.
		if reflect.ValueOf(w).Kind() == reflect.Pointer && !slices.Contains(f.Roots, any(w)) {
			f.Roots = append(f.Roots, w)
		}
	}
	for _, r := range rules.All {
		f.Fixed = append(f.Fixed, r)
	}
	return f
}
