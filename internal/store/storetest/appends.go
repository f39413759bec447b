package storetest

import (
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
)

// appends has many append at once, each to its own stream, some of them out of turn and some to a stream that is not
// there: a batch that is answered without an error is stored, and a mistake affects its sender only.
func appends(t *testing.T, s Store) {
	const streams, batches = 8, 40
	ids := make([]int64, streams)
	for n := range ids {
		ids[n] = begin(t, s, fmt.Sprintf("app%02d", n), 1)
	}
	var all sync.WaitGroup
	for n, id := range ids {
		all.Go(func() {
			for k := int64(2); k <= batches; k++ {
				b := store.Batch{N: k, FirstLine: 100 * k, Lines: 1, Body: fmt.Appendf(nil, "batch %d of %d\n", k, n)}
				assert.NoError(t, s.AppendBatch(t.Context(), id, b, k))
				if k%3 == 0 {
					assert.ErrorIs(t, s.AppendBatch(t.Context(), id, b, k), store.ErrNotNext)
				}
				if k%5 == 0 {
					assert.ErrorIs(t, s.AppendBatch(t.Context(), 1<<40, b, k), store.ErrNotFound)
				}
			}
		})
	}
	all.Wait()
	for n, id := range ids {
		st, err := s.StreamByID(t.Context(), id)
		require.NoError(t, err)
		require.EqualValues(t, batches, st.Batches)
		for k := int64(2); k <= batches; k++ {
			b, err := s.Batch(t.Context(), id, k)
			require.NoError(t, err)
			require.Equal(t, fmt.Sprintf("batch %d of %d\n", k, n), string(b.Body))
		}
	}
}
