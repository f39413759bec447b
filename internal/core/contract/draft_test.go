package contract_test

import (
	"fmt"
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
