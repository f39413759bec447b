package ingest

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store/sqlite"
)

// TestNothingStored checks that a stream whose first batch is rejected again and again, for want of room, is neither stored nor the
// service's end when it is time to store what is known.
func TestNothingStored(t *testing.T) {
	st, err := sqlite.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	h := New(st, rules.Default(), slog.New(slog.NewTextHandler(t.Output(), nil)))
	defer h.Close()
	all, ok := h.Room(maxWaiting)
	require.True(t, ok)
	lines := []byte(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"s","start":"2026-03-02T05:40:00Z"}` + "\n")
	_, err = h.PutBatch(t.Context(), "s", Batch{N: 1, Lines: lines})
	require.ErrorIs(t, err, ErrBusy)
	h.mu.Lock()
	r := h.runners["s"]
	h.mu.Unlock()
	require.NotNil(t, r)
	_, _ = r.ask(t.Context()) // it rests
	r.saveNew(t.Context())
	all.Free()
	_, err = h.PutBatch(t.Context(), "s", Batch{N: 1, Lines: lines})
	require.NoError(t, err)
}
