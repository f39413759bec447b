package ingest

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store/sqlite"
)

// TestStays checks that who has a silent stream leave memory does not wait for it where a batch comes at this very moment: it
// stays then. Streams are analysed again one after the other, so that all others would wait, too.
func TestStays(t *testing.T) {
	st, err := sqlite.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	h := New(st, rules.Default(), slog.New(slog.NewTextHandler(t.Output(), nil)))
	defer h.Close()
	put := func(n int64, line string) error {
		_, err := h.PutBatch(t.Context(), "tides", Batch{N: n, Lines: []byte(line + "\n")})
		return err
	}
	require.NoError(t, put(1, `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"tides","start":"2026-03-02T05:40:00.000000000Z"}`))
	r, err := h.load(t.Context(), "tides", nil, "")
	require.NoError(t, err)

	// It is busy answering until both are there.
	busy := make(chan snapshot)
	r.asks <- busy
	r.heard.Store(h.now() - 2*silentAfter.Nanoseconds())
	taken, left := make(chan error, 1), make(chan struct{})
	go func() { taken <- put(2, `{"ev":"gap","t":9,"lost":1}`) }()
	go func() {
		r.leave(t.Context())
		close(left)
	}()
	require.Eventually(t, func() bool { return len(r.jobs) == 1 && len(r.retire) == 1 }, 10*time.Second, time.Millisecond)
	<-busy
	require.NoError(t, <-taken)
	select {
	case <-left:
	case <-time.After(20 * time.Second):
		t.Fatal("waits for a stream that stays")
	}
	require.NoError(t, put(3, `{"ev":"gap","t":10,"lost":1}`))
}
