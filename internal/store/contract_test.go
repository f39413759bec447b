package store_test

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
)

// stored is what a store should hold: recordings with their streams, and each stream's batches and result.
type stored struct {
	recordings map[string][]int64
	streams    map[int64]*stream
}

type stream struct {
	name    string
	batches []store.Batch
	result  []byte
	covers  int64
	key     string
}

// TestContract does a thousand things to a store, closes and opens it in between, and holds after each opening that it has just
// what it was given: what was acknowledged is there, what was deleted is not, and what was refused has left nothing.
func TestContract(t *testing.T) {
	ctx := context.Background()
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 1))
		folder := t.TempDir()
		s, err := store.Open(ctx, folder)
		require.NoError(t, err)
		model := stored{recordings: map[string][]int64{}, streams: map[int64]*stream{}}
		spent := map[int64]bool{}
		any := func() int64 {
			ids := slices.Sorted(maps.Keys(model.streams))
			if len(ids) == 0 {
				return 0
			}
			return ids[r.IntN(len(ids))]
		}
		for n := range 250 {
			switch r.IntN(8) {
			case 0: // a recording begins with its first stream and batch
				id := fmt.Sprintf("rec%05d", n)
				b := batch(r, nil)
				st, err := s.BeginStream(ctx, recording(id), store.Stream{Recording: id, Name: fmt.Sprint("stream ", n), Live: true}, b, 1)
				require.NoError(t, err)
				assert.False(t, spent[st], "stream %d had been there before", st)
				spent[st] = true
				model.recordings[id] = []int64{st}
				model.streams[st] = &stream{name: fmt.Sprint("stream ", n), batches: []store.Batch{b}}
			case 1: // one that cannot leaves nothing
				for id := range model.recordings {
					_, err := s.BeginStream(ctx, recording(id), store.Stream{Recording: id, Name: "refused", Live: true}, batch(r, nil), 1)
					require.ErrorIs(t, err, store.ErrSpent)
					break
				}
				require.ErrorIs(t, s.AppendBatch(ctx, 1<<40, batch(r, nil), 1), store.ErrNotFound)
			case 2: // a batch that is there already is refused, and changes nothing
				if st := any(); st != 0 {
					have := model.streams[st].batches
					again := have[len(have)-1]
					again.Body = []byte("other lines\n")
					require.Error(t, s.AppendBatch(ctx, st, again, 1))
				}
			case 3: // a result; one that covers less than what is stored is left
				if st := any(); st != 0 {
					m := model.streams[st]
					d := &store.Derived{Analysed: r.Int64N(int64(len(m.batches)) + 1), Key: fmt.Sprint("key ", r.IntN(3)), Result: fmt.Appendf(nil, `{"n":%d}`, n), State: []byte(`{}`)}
					require.NoError(t, s.SetResult(ctx, st, d))
					if d.Analysed >= m.covers {
						m.covers, m.result, m.key = d.Analysed, d.Result, d.Key
					}
				}
			case 4: // deleted for good
				for id, streams := range model.recordings {
					if r.IntN(3) > 0 {
						break
					}
					require.NoError(t, s.DeleteRecording(ctx, id))
					for _, st := range streams {
						delete(model.streams, st)
					}
					delete(model.recordings, id)
					require.ErrorIs(t, s.AddRecording(ctx, *recording(id)), store.ErrSpent)
					break
				}
			default:
				if st := any(); st != 0 {
					m := model.streams[st]
					b := batch(r, m.batches)
					require.NoError(t, s.AppendBatch(ctx, st, b, 1))
					m.batches = append(m.batches, b)
				}
			}
			if n%50 == 49 {
				require.NoError(t, s.Close())
				s, err = store.Open(ctx, folder)
				require.NoError(t, err)
				model.check(t, s)
			}
		}
		require.NoError(t, s.Close())
	}
}

func recording(id string) *store.Recording {
	return &store.Recording{ID: id, App: "harbour-office", Source: "live", CreatedNS: 1, Summary: []byte("{}")}
}

// batch is what comes after the batches there are.
func batch(r *rand.Rand, after []store.Batch) store.Batch {
	b := store.Batch{N: int64(len(after)) + 1, FirstLine: 1, Lines: 1 + r.Int64N(40)}
	if n := len(after); n > 0 {
		b.FirstLine = after[n-1].FirstLine + after[n-1].Lines
	}
	b.Body = []byte(strings.Repeat(fmt.Sprintf("a line of %d\n", r.Uint64()), int(b.Lines)))
	return b
}

// check holds that a store has what it should, and no more.
func (m stored) check(t *testing.T, s *store.Store) {
	ctx := context.Background()
	list, total, err := s.Recordings(ctx, 1000, 0)
	require.NoError(t, err)
	require.Len(t, list, total)
	require.Len(t, list, len(m.recordings))
	for _, rec := range list {
		streams, err := s.Streams(ctx, rec.ID)
		require.NoError(t, err)
		require.Len(t, streams, len(m.recordings[rec.ID]), rec.ID)
		for _, st := range streams {
			want := m.streams[st.ID]
			require.NotNil(t, want, "stream %d of %s was deleted", st.ID, rec.ID)
			last := want.batches[len(want.batches)-1]
			assert.Equal(t, want.name, st.Name)
			assert.Equal(t, last.N, st.Batches)
			assert.Equal(t, last.FirstLine+last.Lines-1, st.Lines)
			assert.Equal(t, want.covers, st.Analysed)
			assert.Equal(t, want.key, st.DerivedBy)
			for _, b := range want.batches {
				got, err := s.Batch(ctx, st.ID, b.N)
				require.NoError(t, err)
				assert.Equal(t, b.FirstLine, got.FirstLine)
				assert.True(t, bytes.Equal(b.Body, got.Body), "batch %d of stream %d", b.N, st.ID)
			}
			_, err := s.Batch(ctx, st.ID, last.N+1)
			require.ErrorIs(t, err, store.ErrNotFound)
			result, err := s.Result(ctx, st.ID)
			require.NoError(t, err)
			assert.Equal(t, string(want.result), string(result))
			byName, err := s.LiveStream(ctx, want.name)
			require.NoError(t, err)
			assert.Equal(t, st.ID, byName.ID)
		}
	}
}
