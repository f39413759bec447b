package contract_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/contract"
)

// TestDraftsAreKept drafts contracts from random traces: each is kept by the recording that it was drafted from, and a second draft is the
// same.
func TestDraftsAreKept(t *testing.T) {
	for seed := range uint64(50) {
		text := traces.Random(fmt.Sprint("r-", seed), seed, 400)
		src := study(t, []byte(text))
		draft := contract.Draft(src)
		if seed%10 == 0 {
			require.Equal(t, draft, contract.Draft(study(t, []byte(text))), "seed %d", seed)
		}
		read, err := contract.Read("draft.yaml", []byte(draft))
		if err != nil {
			t.Errorf("seed %d: %v", seed, err)
			continue
		}
		r, err := contract.Check(read, src, time.Now())
		if err != nil {
			t.Errorf("seed %d: %v", seed, err)
			continue
		}
		for _, c := range r.Clauses {
			assert.Equal(t, contract.Kept, c.Status, "seed %d: %s: %s (line %d)", seed, c.Says, c.Why, c.Line)
		}
	}
}

// TestLargeDrafts drafts from a recording with more registrations than a contract has lines: the draft can be read, and is kept.
func TestLargeDrafts(t *testing.T) {
	var trace strings.Builder
	trace.WriteString(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"h-1","start":"2026-03-02T05:40:00Z"}` + "\n")
	for n := range 12_000 {
		fmt.Fprintf(&trace, `{"ev":"register","t":1,"reg":%d,"service":"Berth%d","lifetime":"singleton"}`+"\n", n+1, n)
		fmt.Fprintf(&trace, `{"ev":"make","t":2,"inst":%d,"reg":%d,"scope":0}`+"\n", n+1, n+1)
	}
	src := study(t, []byte(trace.String()))
	draft := contract.Draft(src)
	read, err := contract.Read("draft.yaml", []byte(draft))
	require.NoError(t, err)
	r, err := contract.Check(read, src, time.Now())
	require.NoError(t, err)
	assert.Greater(t, r.Kept, 1000)
	assert.Zero(t, r.Broken+r.NotSeen)
}
