package jetstream_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	nats_js "github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
)

// working is a worker whose Take a test decides on.
type working struct {
	take func(stream string, b store.Batch) error
}

func (w working) Take(_ context.Context, stream string, b store.Batch, free func()) error {
	defer free()
	return w.take(stream, b)
}
func (working) HandOver(context.Context, func(string) bool) {}
func (working) Heard(string)                                {}
func (working) Doing() (loaded, running []string)           { return nil, nil }
func (working) Key() string                                 { return "k" }

// begun begins a recording with a stream of one batch.
func begun(t *testing.T, s *jetstream.Store, recording, stream string) int64 {
	t.Helper()
	rec := store.Recording{ID: recording, App: "harbour-office", Source: "live", CreatedNS: 1}
	id, err := s.BeginStream(t.Context(), &rec, store.Stream{Recording: recording, Name: stream, Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("x\n")}, 1)
	require.NoError(t, err)
	return id
}

// TestReadyWithoutWhatWasDeleted holds that a partition becomes ready though the last batch that it had to be read up to is deleted
// meanwhile.
func TestReadyWithoutWhatWasDeleted(t *testing.T) {
	_, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 1, Lease: 5 * time.Second})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	begun(t, s, "aaa11", "first")
	for n := range 40 { // more than is fetched before it is wanted
		begun(t, s, fmt.Sprintf("bbb%02d", n), fmt.Sprint("later ", n))
	}
	taken, goOn := make(chan struct{}), make(chan struct{})
	require.NoError(t, s.Work(working{func(stream string, _ store.Batch) error {
		if stream == "first" {
			close(taken)
			<-goOn
		}
		return nil
	}}))
	<-taken
	for n := range 40 {
		require.NoError(t, s.DeleteRecording(t.Context(), fmt.Sprintf("bbb%02d", n)))
	}
	close(goOn)
	require.Eventually(t, func() bool {
		all := s.Services()
		return all.Free+all.Reading == 0
	}, 15*time.Second, 50*time.Millisecond, "it is ready")
}

// TestReachedWhileBusy holds that it is noted how far a partition has been worked on though one of its streams never rests: results
// are always some batches behind.
func TestReachedWhileBusy(t *testing.T) {
	_, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 1, Lease: 5 * time.Second})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	id := begun(t, s, "aaa11", "busy")
	require.NoError(t, s.Work(working{func(_ string, b store.Batch) error {
		if b.N%10 != 0 {
			return nil
		}
		return s.SetResult(t.Context(), id, &store.Derived{Analysed: b.N - 5, Key: "k", Result: []byte("{}")})
	}}))
	c, err := nats.Connect(url)
	require.NoError(t, err)
	defer c.Close()
	js, err := nats_js.New(c)
	require.NoError(t, err)
	catalog, err := js.KeyValue(t.Context(), "keenlantern-catalog")
	require.NoError(t, err)
	n := int64(1)
	require.Eventually(t, func() bool {
		for range 10 {
			n++
			if !assert.NoError(t, s.AppendBatch(t.Context(), id, store.Batch{N: n, FirstLine: n, Lines: 1, Body: []byte("x\n")}, 1)) {
				return false
			}
		}
		var reached struct {
			Seq int64 `json:"seq"`
		}
		row, err := catalog.Get(t.Context(), "reached.0")
		return err == nil && json.Unmarshal(row.Value(), &reached) == nil && reached.Seq > 50
	}, 20*time.Second, 100*time.Millisecond, "the older batches count as done")
}
