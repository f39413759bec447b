package engine_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/load"
)

// TestEnterprise checks that the application of ordinary size is a trace as any other, and has the mistakes that it is made up with and no
// other: 340 singletons keep the context of a request, 1,081 would, a lease is not disposed at nine endpoints, and forty ask for a service
// that is not registered.
func TestEnterprise(t *testing.T) {
	for _, stream := range load.EnterpriseLanguages {
		w := load.Enterprise.New(stream+"-1", 8)
		trace := append(bytes.Clone(w.Requests(1200)), w.End()...)
		told, err := conform.Check(bytes.NewReader(trace))
		require.NoError(t, err)
		assert.True(t, told.Conforms, "%v", told.Problems)
		r, err := engine.Analyse(t.Context(), bytes.NewReader(trace), reader.Options{}, rules.Default())
		require.NoError(t, err)
		found := map[string]int{}
		for _, f := range r.Findings {
			found[f.Rule]++
		}
		assert.Equal(t, map[string]int{"captive/scoped": 340, "captive/declared": 1081, "disposal/leaked": 1, "resolve/missing": 40}, found, stream)
	}
}

// TestEnterpriseInLittleMemory checks that the same is found where little of what has ended is kept: then instances that are pinned and
// instances that are forgotten keep one another.
func TestEnterpriseInLittleMemory(t *testing.T) {
	w := load.Enterprise.New("enterprise-1", 8)
	trace := append(bytes.Clone(w.Requests(1200)), w.End()...)
	for _, remembered := range []int{512, 4096} {
		s := engine.NewStream(rules.Default(), nil)
		s.Remember(remembered)
		in := reader.New(bytes.NewReader(trace), reader.Options{})
		for line, err := in.Next(); err == nil; line, err = in.Next() {
			s.Put(line)
		}
		s.Finish()
		require.Nil(t, s.Broken(), "%d remembered", remembered)
		assert.Len(t, s.Result().Findings, 340+1081+1+40, "%d remembered", remembered)
	}
}
