package ingest

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
)

// TestClockLeaps checks that a clock which leaps deletes nothing until an administrator confirms it, or it has gone back.
func TestClockLeaps(t *testing.T) {
	st, err := sqlite.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	hub := func() *Hub {
		h := New(st, rules.Default(), slog.New(slog.NewTextHandler(t.Output(), nil)))
		t.Cleanup(h.Close)
		return h
	}
	now, minute := time.Now().UnixNano(), int64(time.Minute)
	year := int64(365 * 24 * time.Hour)

	h := hub()
	h.looked(now, 0, 0)
	h.looked(now+minute, minute, 0)
	h.looked(now+2*minute+minute/2, 2*minute, 0)
	assert.False(t, h.Retention().Held, "half a minute is no leap")
	h.looked(now+3*minute+year, 3*minute, 0)
	assert.True(t, h.Retention().Held)
	assert.Contains(t, h.Retention().Why, "the clock has leapt by")
	h.looked(now+4*minute+year, 4*minute, 0)
	assert.True(t, h.Retention().Held, "it is not right by going on")
	gone, err := h.Tidy(t.Context(), Keep{For: time.Nanosecond})
	require.NoError(t, err)
	assert.Empty(t, gone)
	h.looked(now+5*minute, 5*minute, 0)
	assert.False(t, h.Retention().Held, "it has gone back")

	h = hub()
	h.looked(now, 0, now-8*24*60*minute)
	assert.True(t, h.Retention().Held, "a week away, or a wrong clock")
	h.ResumeRetention(t.Context())
	assert.False(t, h.Retention().Held)

	h = hub()
	h.looked(now, 0, now+year)
	assert.False(t, h.Retention().Held, "a clock that is behind makes nothing old")
	h.looked(now-year, minute, 0)
	assert.False(t, h.Retention().Held)
}

// TestRetention deletes by when a recording was last written, as the service saw it, and leaves alone what is pinned.
func TestRetention(t *testing.T) {
	st, err := sqlite.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	h := New(st, rules.Default(), slog.New(slog.NewTextHandler(t.Output(), nil)))
	defer h.Close()
	add := func(id string, written time.Time, pinned bool) {
		rec := store.Recording{ID: id, App: "harbour", Source: "file", CreatedNS: written.UnixNano(), Summary: []byte("{}"), Labels: []byte("{}"), Pinned: pinned}
		_, err := st.BeginStream(t.Context(), &rec, store.Stream{Recording: id, Name: id}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("{}\n")}, written.UnixNano())
		require.NoError(t, err)
		require.NoError(t, st.SetHousekeeping(t.Context(), rec))
	}
	now := time.Now()
	add("old", now.Add(-48*time.Hour), false)
	add("pinned", now.Add(-48*time.Hour), true)
	add("fresh", now, false)
	add("ahead", now.Add(48*time.Hour), false) // written while the clock was ahead
	gone, err := h.Tidy(t.Context(), Keep{For: 24 * time.Hour})
	require.NoError(t, err)
	assert.Equal(t, []string{"old"}, gone)
}
