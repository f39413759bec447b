package jetstream_test

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
)

// noise returns bytes that do not get smaller when they are packed.
func noise(seed uint64, n int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for k := range b {
		b[k] = byte(r.Uint32())
	}
	return b
}

// TestLarge checks that batches, results, parts of a log of scopes and checkpoints may be larger than a message of the log, and that
// nothing is left of them when their recording is deleted.
func TestLarge(t *testing.T) {
	srv, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	ctx := t.Context()
	body := noise(1, 3<<20)
	zip, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	rec := store.Recording{ID: "aaa11", App: "harbour-office", Source: "live", CreatedNS: 1}
	id, err := s.BeginStream(ctx, &rec, store.Stream{Recording: "aaa11", Name: "office-1", Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: body, Packed: zip.EncodeAll(body, nil)}, 1)
	require.NoError(t, err)
	next := noise(2, 8<<20)
	require.NoError(t, s.AppendBatch(ctx, id, store.Batch{N: 2, FirstLine: 2, Lines: 1, Body: next}, 1))
	require.ErrorIs(t, s.AppendBatch(ctx, id, store.Batch{N: 2, FirstLine: 2, Lines: 1, Body: body}, 1), store.ErrNotNext)
	for n, want := range [][]byte{body, next} {
		b, err := s.Batch(ctx, id, int64(n+1))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(want, b.Body), "batch %d", n+1)
	}
	result, state, chunk, checkpoint := noise(3, 2<<20), noise(4, 5<<20), noise(5, 4<<20), noise(6, 9<<20)
	require.NoError(t, s.PutChunks(ctx, id, []store.Chunk{{N: 0, Body: chunk}}))
	for range 2 { // it is replaced by one that is as large
		require.NoError(t, s.SetResult(ctx, id, &store.Derived{Analysed: 2, Key: "k", Result: result, Digest: noise(7, 20<<10), State: state}))
		require.NoError(t, s.PutCheckpoint(ctx, id, 2, "p", checkpoint))
	}
	got, err := s.Result(ctx, id)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(result, got))
	got, covers, err := s.State(ctx, id)
	require.NoError(t, err)
	assert.EqualValues(t, 2, covers)
	assert.True(t, bytes.Equal(state, got))
	got, err = s.Chunk(ctx, id, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(chunk, got))
	require.NoError(t, s.PutChunks(ctx, id, []store.Chunk{{N: 0, Body: []byte("small by now")}}))
	got, err = s.Chunk(ctx, id, 0)
	require.NoError(t, err)
	assert.Equal(t, "small by now", string(got))
	got, _, err = s.Checkpoint(ctx, id, "p")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(checkpoint, got))

	stored := func() uint64 {
		usage, err := srv.Jsz(nil)
		require.NoError(t, err)
		return usage.Store
	}
	require.Greater(t, stored(), uint64(20<<20))
	require.NoError(t, s.DeleteRecording(ctx, "aaa11"))
	require.Eventually(t, func() bool { return stored() < 1<<20 }, 10*time.Second, 50*time.Millisecond, "%d bytes are left", stored())
	_, err = s.Batch(ctx, id, 1)
	require.ErrorIs(t, err, store.ErrNotFound)
}
