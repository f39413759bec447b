package service_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/views"
)

// TestClosingsOfStreams checks that scopes of one number in two streams are two: each has its own closing.
func TestClosingsOfStreams(t *testing.T) {
	r := start(t, t.TempDir())
	text, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	var one, two views.DisposalView
	_, err = r.hub.PutFile(t.Context(), bytes.NewReader(text), 1<<40)
	require.NoError(t, err)
	r.json("/api/v1/recordings/latest/disposal", &one)
	require.NotEmpty(t, one.Closings)
	both := append(bytes.Clone(text), bytes.Replace(text, []byte("office-1"), []byte("office-2"), 1)...)
	_, err = r.hub.PutFile(t.Context(), bytes.NewReader(both), 1<<40)
	require.NoError(t, err)
	r.json("/api/v1/recordings/latest/disposal", &two)
	require.Len(t, two.Closings, min(10, 2*len(one.Closings)))
	seen := map[[2]int]bool{}
	for _, c := range two.Closings {
		of := [2]int{c.Stream, int(c.Scope)}
		assert.False(t, seen[of], "%v twice", of)
		seen[of] = true
		for _, alone := range one.Closings {
			if alone.Scope == c.Scope {
				assert.Equal(t, alone.Steps, c.Steps, "scope %d of stream %d", c.Scope, c.Stream)
			}
		}
	}
}
