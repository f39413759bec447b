package ingest_test

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
)

// watched is a store of which a test sees, and may hold up, what is asked of it.
type watched struct {
	*sqlite.Store
	found   func(name string)      // a stream has been searched for
	counted func()                 // the streams of a recording have been
	before  atomic.Pointer[func()] // a result is about to be stored
	mu      sync.Mutex
	leases  map[string]*losable
}

func (w *watched) LiveStream(ctx context.Context, name string) (store.Stream, error) {
	st, err := w.Store.LiveStream(ctx, name)
	if w.found != nil {
		w.found(name)
	}
	return st, err
}

func (w *watched) StreamCount(ctx context.Context, recording string) (int, error) {
	n, err := w.Store.StreamCount(ctx, recording)
	if w.counted != nil {
		w.counted()
	}
	return n, err
}

func (w *watched) SetResult(ctx context.Context, stream int64, d *store.Derived) error {
	if f := w.before.Load(); f != nil {
		(*f)()
	}
	return w.Store.SetResult(ctx, stream, d)
}

func (w *watched) Hold(ctx context.Context, stream string) (store.Lease, error) {
	l, err := w.Store.Hold(ctx, stream)
	if err != nil {
		return nil, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	mine := &losable{l, make(chan struct{})}
	w.leases[stream] = mine
	return mine, nil
}

// losable is a lease that a test can take away.
type losable struct {
	store.Lease
	lost chan struct{}
}

func (l *losable) Lost() <-chan struct{} { return l.lost }

// hubOn returns a hub on a watched store in a folder, and what ends both.
func hubOn(t *testing.T, folder string) (*ingest.Hub, *watched, func()) {
	t.Helper()
	st, err := sqlite.Open(t.Context(), folder)
	require.NoError(t, err)
	w := &watched{Store: st, leases: map[string]*losable{}}
	hub := ingest.New(w, rules.Default(), slog.New(slog.NewTextHandler(t.Output(), nil)))
	return hub, w, func() {
		hub.Close()
		require.NoError(t, st.Close())
	}
}

// lines returns the n-th batch of a stream: a hello first, and its own scope in each.
func lines(stream string, n int) ingest.Batch {
	var b strings.Builder
	if n == 1 {
		fmt.Fprintf(&b, `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour-office","stream":%q,"start":"2031-05-04T06:00:00Z"}`+"\n", stream)
	}
	fmt.Fprintf(&b, `{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /tides"}`+"\n", 100*n, n)
	fmt.Fprintf(&b, `{"ev":"close","t":%d,"scope":%d}`+"\n", 100*n+50, n)
	return ingest.Batch{N: int64(n), Lines: []byte(b.String())}
}

// TestOneStreamHoldsUpNoOther checks that a stream which is being looked for, however long that takes, keeps no other waiting.
func TestOneStreamHoldsUpNoOther(t *testing.T) {
	hub, w, end := hubOn(t, t.TempDir())
	defer end()
	looked, release := make(chan struct{}), make(chan struct{})
	w.found = func(name string) {
		if name == "slow" {
			close(looked)
			<-release
		}
	}
	slow := make(chan error, 2)
	for range 2 { // the second waits for the first, and is answered like it
		go func() {
			_, err := hub.PutBatch(t.Context(), "slow", lines("slow", 1))
			slow <- err
		}()
	}
	<-looked
	for n := 1; n <= 3; n++ {
		_, err := hub.PutBatch(t.Context(), "quick", lines("quick", n))
		require.NoError(t, err)
	}
	_, total, err := hub.Summaries(t.Context(), 10, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	close(release)
	require.NoError(t, <-slow)
	require.NoError(t, <-slow)
	assert.Equal(t, 2, hub.Stats().Streams)
}

// TestLostLease checks that a service that has lost a stream's lease stores nothing more of it, and may take it again.
func TestLostLease(t *testing.T) {
	hub, w, end := hubOn(t, t.TempDir())
	defer end()
	a, err := hub.PutBatch(t.Context(), "office", lines("office", 1))
	require.NoError(t, err)
	var stored atomic.Int64
	count := func() { stored.Add(1) }
	w.before.Store(&count)
	w.mu.Lock()
	close(w.leases["office"].lost)
	w.mu.Unlock()
	require.Eventually(t, func() bool { return hub.Stats().Streams == 0 }, 5*time.Second, time.Millisecond)
	assert.Zero(t, stored.Load())
	again, err := hub.PutBatch(t.Context(), "office", lines("office", 2))
	require.NoError(t, err)
	assert.Equal(t, a.Recording, again.Recording)
	s, err := hub.Summary(t.Context(), a.Recording)
	require.NoError(t, err)
	assert.Equal(t, 1, s.Streams)
}

// TestDeletedWhileLoading checks that a stream which is deleted between being found and being loaded is not loaded.
func TestDeletedWhileLoading(t *testing.T) {
	folder := t.TempDir()
	hub, _, end := hubOn(t, folder)
	a, err := hub.PutBatch(t.Context(), "office", lines("office", 1))
	require.NoError(t, err)
	end()
	hub, w, end := hubOn(t, folder)
	defer end()
	var once sync.Once
	w.counted = func() {
		once.Do(func() { assert.NoError(t, hub.Delete(t.Context(), a.Recording)) })
	}
	_, err = hub.PutBatch(t.Context(), "office", lines("office", 2))
	turn := (*ingest.OutOfTurn)(nil)
	require.ErrorAs(t, err, &turn)
	assert.EqualValues(t, 1, turn.Expected)
	assert.Zero(t, hub.Stats().Streams)
}

// TestSilence holds what becomes of a stream that falls silent, over a month of the clock: it leaves memory, and a late batch finds
// all as it was, even while its runner is leaving; in the end it is deleted.
func TestSilence(t *testing.T) {
	folder := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		hub, w, end := hubOn(t, folder)
		defer end()
		state := func(want string, loaded int) {
			t.Helper()
			list, _, err := hub.Summaries(t.Context(), 10, 0)
			require.NoError(t, err)
			require.Len(t, list, 1)
			assert.Equal(t, want, list[0].State)
			assert.Equal(t, loaded, hub.Stats().Streams)
		}
		a, err := hub.PutBatch(t.Context(), "office", lines("office", 1))
		require.NoError(t, err)
		time.Sleep(time.Second)
		state("running", 1)
		time.Sleep(time.Minute)
		state("silent", 1)

		// A batch that comes while the runner stores what it knows, to leave, waits for that, and is taken.
		storing, release := make(chan struct{}, 1), make(chan struct{})
		hold := func() {
			select {
			case storing <- struct{}{}:
			default:
			}
			<-release
		}
		w.before.Store(&hold)
		time.Sleep(5 * time.Minute)
		<-storing
		taken := make(chan error)
		go func() {
			_, err := hub.PutBatch(t.Context(), "office", lines("office", 2))
			taken <- err
		}()
		time.Sleep(time.Second)
		close(release)
		require.NoError(t, <-taken)
		w.before.Store(nil)
		time.Sleep(time.Second)
		state("running", 1)
		s, err := hub.Summary(t.Context(), a.Recording)
		require.NoError(t, err)
		assert.EqualValues(t, 2, s.Figures.Scopes)

		time.Sleep(10 * time.Minute)
		state("cut off", 0)
		gone, err := hub.Tidy(t.Context(), ingest.Keep{For: 30 * 24 * time.Hour})
		require.NoError(t, err)
		assert.Empty(t, gone)
		time.Sleep(30 * 24 * time.Hour)
		gone, err = hub.Tidy(t.Context(), ingest.Keep{For: 30 * 24 * time.Hour})
		require.NoError(t, err)
		assert.Equal(t, []string{a.Recording}, gone)
	})
}
