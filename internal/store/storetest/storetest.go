// Package storetest holds the contract of a store: what any implementation of the interfaces of package store fulfils.
package storetest

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

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

// Store is what is tested: a store that can be closed, and opened again.
type Store interface {
	store.Store
	store.Contracts
	Close() error
}

// Run holds the contract against a store. Open opens the one in a folder, and begins it where there is none.
func Run(t *testing.T, open func(ctx context.Context, folder string) (Store, error)) {
	t.Run("what was acknowledged is there", func(t *testing.T) { model(t, open) })
	for name, check := range map[string]func(*testing.T, Store){
		"batches follow each other": follow, "batches are found by their lines": find, "what is derived is replaced as a whole": derived,
		"what is not derived, or with another key, is listed": unfinished, "a checkpoint is one program's": checkpoints,
		"many append at once": appends, "a stream has one holder": leases, "names of recordings": names, "summaries are of what is": summaries, "an application has one contract": contracts, "a cancelled caller gets an error, and nothing is done": givenUp,
	} {
		t.Run(name, func(t *testing.T) {
			s, err := open(t.Context(), t.TempDir())
			require.NoError(t, err)
			defer func() { require.NoError(t, s.Close()) }()
			check(t, s)
		})
	}
}

// model does a thousand things to a store, closes and opens it in between, and holds after each opening that it has just
// what it was given: what was acknowledged is there, what was deleted is not, and what was refused has left nothing.
func model(t *testing.T, open func(ctx context.Context, folder string) (Store, error)) {
	ctx := t.Context()
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 1))
		folder := t.TempDir()
		s, err := open(ctx, folder)
		require.NoError(t, err)
		want := stored{recordings: map[string][]int64{}, streams: map[int64]*stream{}}
		spent := map[int64]bool{}
		any := func() int64 {
			ids := slices.Sorted(maps.Keys(want.streams))
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
				want.recordings[id] = []int64{st}
				want.streams[st] = &stream{name: fmt.Sprint("stream ", n), batches: []store.Batch{b}}
			case 1: // one that cannot leaves nothing
				for id := range want.recordings {
					_, err := s.BeginStream(ctx, recording(id), store.Stream{Recording: id, Name: "refused", Live: true}, batch(r, nil), 1)
					require.ErrorIs(t, err, store.ErrSpent)
					break
				}
				require.ErrorIs(t, s.AppendBatch(ctx, 1<<40, batch(r, nil), 1), store.ErrNotFound)
			case 2: // a batch that is there already is refused, and changes nothing
				if st := any(); st != 0 {
					have := want.streams[st].batches
					again := have[len(have)-1]
					again.Body = []byte("other lines\n")
					require.ErrorIs(t, s.AppendBatch(ctx, st, again, 1), store.ErrNotNext)
				}
			case 3: // a result; one that covers less than what is stored is left
				if st := any(); st != 0 {
					m := want.streams[st]
					d := &store.Derived{Analysed: r.Int64N(int64(len(m.batches)) + 1), Key: fmt.Sprint("key ", r.IntN(3)), Result: fmt.Appendf(nil, `{"n":%d}`, n), State: []byte(`{}`)}
					require.NoError(t, s.SetResult(ctx, st, d))
					if d.Analysed >= m.covers {
						m.covers, m.result, m.key = d.Analysed, d.Result, d.Key
					}
				}
			case 4: // deleted for good
				for id, streams := range want.recordings {
					if r.IntN(3) > 0 {
						break
					}
					require.NoError(t, s.DeleteRecording(ctx, id))
					for _, st := range streams {
						delete(want.streams, st)
					}
					delete(want.recordings, id)
					require.ErrorIs(t, s.AddRecording(ctx, *recording(id)), store.ErrSpent)
					break
				}
			default:
				if st := any(); st != 0 {
					m := want.streams[st]
					b := batch(r, m.batches)
					require.NoError(t, s.AppendBatch(ctx, st, b, 1))
					m.batches = append(m.batches, b)
				}
			}
			if n%50 == 49 {
				require.NoError(t, s.Close())
				s, err = open(ctx, folder)
				require.NoError(t, err)
				want.check(t, s)
			}
		}
		require.NoError(t, s.Close())
	}
}

// begin begins a recording with one stream of so many batches, and returns the stream's id.
func begin(t *testing.T, s Store, id string, batches int) int64 {
	t.Helper()
	r := rand.New(rand.NewPCG(7, 7))
	have := []store.Batch{batch(r, nil)}
	st, err := s.BeginStream(t.Context(), recording(id), store.Stream{Recording: id, Name: "stream of " + id, Live: true}, have[0], 1)
	require.NoError(t, err)
	for len(have) < batches {
		b := batch(r, have)
		require.NoError(t, s.AppendBatch(t.Context(), st, b, 1))
		have = append(have, b)
	}
	return st
}

func follow(t *testing.T, s Store) {
	st := begin(t, s, "aaa11", 2)
	for _, n := range []int64{1, 2, 4, 100} {
		b := store.Batch{N: n, FirstLine: 1, Lines: 1, Body: []byte("x\n")}
		require.ErrorIs(t, s.AppendBatch(t.Context(), st, b, 1), store.ErrNotNext, "batch %d", n)
	}
	require.ErrorIs(t, s.AppendBatch(t.Context(), st+1, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("x\n")}, 1), store.ErrNotFound)
	got, err := s.StreamByID(t.Context(), st)
	require.NoError(t, err)
	assert.EqualValues(t, 2, got.Batches)
}

func find(t *testing.T, s Store) {
	st := begin(t, s, "aaa11", 30)
	first := map[int64]int64{}
	var last int64
	for n := int64(1); n <= 30; n++ {
		b, err := s.Batch(t.Context(), st, n)
		require.NoError(t, err)
		first[n], last = b.FirstLine, b.FirstLine+b.Lines-1
	}
	r := rand.New(rand.NewPCG(1, 2))
	for range 100 {
		from := 1 + r.Int64N(last)
		to := from + r.Int64N(last-from+1)
		var want []int64
		for n := int64(1); n <= 30; n++ {
			end := last
			if n < 30 {
				end = first[n+1] - 1
			}
			if first[n] <= to && end >= from && len(want) < 5 {
				want = append(want, n)
			}
		}
		got, err := s.BatchesWith(t.Context(), st, from, to, 5)
		require.NoError(t, err)
		assert.Equal(t, want, got, "lines %d to %d", from, to)
	}
}

func derived(t *testing.T, s Store) {
	ctx := t.Context()
	st := begin(t, s, "aaa11", 3)
	result, err := s.Result(ctx, st)
	require.NoError(t, err)
	assert.Nil(t, result)
	state, _, err := s.State(ctx, st)
	require.NoError(t, err)
	assert.Nil(t, state)
	set := func(covers int64, text string, staged bool) {
		d := &store.Derived{Analysed: covers, Key: "k", Result: []byte("result " + text), Digest: []byte("digest " + text), State: []byte("state " + text), Staged: staged}
		require.NoError(t, s.SetResult(ctx, st, d))
	}
	holds := func(text string, covers int64, chunks ...string) {
		t.Helper()
		result, err := s.Result(ctx, st)
		require.NoError(t, err)
		assert.Equal(t, "result "+text, string(result))
		state, n, err := s.State(ctx, st)
		require.NoError(t, err)
		assert.Equal(t, "state "+text, string(state))
		assert.Equal(t, covers, n)
		digests, err := s.Digests(ctx, "aaa11")
		require.NoError(t, err)
		assert.Equal(t, map[int64][]byte{st: []byte("digest " + text)}, digests)
		for n, want := range chunks {
			body, err := s.Chunk(ctx, st, n)
			require.NoError(t, err)
			assert.Equal(t, want, string(body))
		}
		_, err = s.Chunk(ctx, st, len(chunks))
		require.ErrorIs(t, err, store.ErrNotFound)
	}
	require.NoError(t, s.PutChunks(ctx, st, []store.Chunk{{N: 0, Body: []byte("a")}, {N: 1, Body: []byte("b")}, {N: 2, Body: []byte("c")}}))
	set(2, "first", false)
	holds("first", 2, "a", "b", "c")
	set(1, "of less", false)
	holds("first", 2, "a", "b", "c")
	require.NoError(t, s.PutChunks(ctx, st, []store.Chunk{{N: 1, Body: []byte("B")}}))
	holds("first", 2, "a", "B", "c")
	// What is staged is not seen, can be dropped, and takes the place of the rest at once.
	require.NoError(t, s.PutChunks(ctx, st, []store.Chunk{{N: store.Stage(0), Body: []byte("dropped")}, {N: store.Stage(1), Body: []byte("dropped")}}))
	holds("first", 2, "a", "B", "c")
	require.NoError(t, s.DropStaged(ctx, st))
	require.NoError(t, s.PutChunks(ctx, st, []store.Chunk{{N: store.Stage(0), Body: []byte("new")}}))
	set(3, "again", true)
	holds("again", 3, "new")
	// What is wanted again counts as covering nothing, and is there until it is replaced.
	require.NoError(t, s.Again(ctx, st))
	holds("again", 0, "new")
	set(1, "again", false)
	holds("again", 1, "new")
}

func unfinished(t *testing.T, s Store) {
	ctx := t.Context()
	older, newer := begin(t, s, "aaa11", 2), begin(t, s, "bbb22", 1)
	streams := func(key string) (ids []int64) {
		list, err := s.Unfinished(ctx, key)
		require.NoError(t, err)
		for _, st := range list {
			ids = append(ids, st.ID)
		}
		return ids
	}
	none := func(store.Stream) bool { return false }
	assert.Equal(t, []int64{older, newer}, streams("k"))
	_, _, err := s.Stale(ctx, "k", none)
	require.ErrorIs(t, err, store.ErrNotFound, "what has not been analysed is not stale")
	require.NoError(t, s.SetResult(ctx, older, &store.Derived{Analysed: 2, Key: "k", Result: []byte("{}")}))
	require.NoError(t, s.SetResult(ctx, newer, &store.Derived{Analysed: 1, Key: "k", Result: []byte("{}"), Broken: true}))
	assert.Empty(t, streams("k"), "the same key would break again")
	assert.Equal(t, []int64{newer}, streams("other"))
	broken, err := s.Broken(ctx)
	require.NoError(t, err)
	assert.EqualValues(t, 1, broken)
	_, n, err := s.Stale(ctx, "other", none)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
	st, n, err := s.Stale(ctx, "other", func(st store.Stream) bool { return st.ID == newer })
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	assert.Equal(t, older, st.ID)
	// A file that has not come to its end is not finished.
	file := recording("ccc33")
	file.Source, file.Importing = "file", true
	require.NoError(t, s.AddRecording(ctx, *file))
	part, err := s.AddStream(ctx, "ccc33", "part", false)
	require.NoError(t, err)
	require.NoError(t, s.AppendBatch(ctx, part, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("x\n")}, 1))
	assert.Empty(t, streams("k"))
	require.NoError(t, s.Imported(ctx, "ccc33"))
	assert.Equal(t, []int64{part}, streams("k"))
}

func checkpoints(t *testing.T, s Store) {
	ctx := t.Context()
	st := begin(t, s, "aaa11", 2)
	holds := func(program, want string, covers int64) {
		t.Helper()
		body, n, err := s.Checkpoint(ctx, st, program)
		require.NoError(t, err)
		assert.Equal(t, want, string(body))
		assert.Equal(t, covers, n)
	}
	holds("p", "", 0)
	require.NoError(t, s.PutCheckpoint(ctx, st, 1, "p", []byte("one")))
	require.NoError(t, s.PutCheckpoint(ctx, st, 2, "p", []byte("two")))
	holds("p", "two", 2)
	holds("another", "", 0)
	require.NoError(t, s.DropCheckpoint(ctx, st))
	holds("p", "", 0)
	require.NoError(t, s.PutCheckpoint(ctx, st, 2, "p", []byte("two")))
	require.NoError(t, s.Again(ctx, st))
	holds("p", "", 0)
}

func leases(t *testing.T, s Store) {
	l, err := s.Hold(t.Context(), "office-1")
	require.NoError(t, err)
	_, err = s.Hold(t.Context(), "office-1")
	require.ErrorIs(t, err, store.ErrHeld)
	other, err := s.Hold(t.Context(), "office-2")
	require.NoError(t, err)
	l.Release()
	next, err := s.Hold(t.Context(), "office-1")
	require.NoError(t, err)
	l.Release() // it is another's by now
	_, err = s.Hold(t.Context(), "office-1")
	require.ErrorIs(t, err, store.ErrHeld)
	select {
	case <-next.Lost():
		assert.Fail(t, "the lease was lost")
	default:
	}
	next.Release()
	other.Release()
}

func names(t *testing.T, s Store) {
	ctx := t.Context()
	for n, id := range []string{"abc11", "abd22", "xyz33"} {
		rec := recording(id)
		rec.CreatedNS = int64(n + 1)
		require.NoError(t, s.AddRecording(ctx, *rec))
	}
	for name, want := range map[string]string{"abc11": "abc11", "ABC": "abc11", "x": "xyz33", "latest": "xyz33"} {
		got, err := s.Recording(ctx, name)
		require.NoError(t, err, name)
		assert.Equal(t, want, got.ID)
	}
	for name, want := range map[string]error{"ab": store.ErrAmbiguous, "q": store.ErrNotFound, "": store.ErrNotFound} {
		_, err := s.Recording(ctx, name)
		require.ErrorIs(t, err, want, name)
	}
	page, total, err := s.Recordings(ctx, 2, 1)
	require.NoError(t, err)
	assert.Equal(t, 3, total)
	require.Len(t, page, 2)
	assert.Equal(t, "abd22", page[0].ID)
	kept := page[0]
	kept.Name, kept.Pinned, kept.Labels = "after the dredger", true, []byte(`{"tide":"low"}`)
	require.NoError(t, s.SetHousekeeping(ctx, kept))
	got, err := s.Recording(ctx, "abd22")
	require.NoError(t, err)
	assert.Equal(t, kept, got)
}

func summaries(t *testing.T, s Store) {
	ctx := t.Context()
	st := begin(t, s, "aaa11", 1)
	was, err := s.Recording(ctx, "aaa11")
	require.NoError(t, err)
	require.NoError(t, s.SetSummary(ctx, "aaa11", was.Changes, []byte(`{"id":"aaa11"}`)))
	kept, err := s.Recording(ctx, "aaa11")
	require.NoError(t, err)
	assert.JSONEq(t, `{"id":"aaa11"}`, string(kept.Summary))
	require.NoError(t, s.SetResult(ctx, st, &store.Derived{Analysed: 1, Key: "k", Result: []byte("{}")}))
	changed, err := s.Recording(ctx, "aaa11")
	require.NoError(t, err)
	assert.JSONEq(t, `{}`, string(changed.Summary), "it was of what has changed")
	require.NoError(t, s.SetSummary(ctx, "aaa11", was.Changes, []byte(`{"id":"late"}`)))
	late, err := s.Recording(ctx, "aaa11")
	require.NoError(t, err)
	assert.JSONEq(t, `{}`, string(late.Summary))
}

func recording(id string) *store.Recording {
	return &store.Recording{ID: id, App: "harbour-office", Source: "live", CreatedNS: 1, Summary: []byte("{}"), Labels: []byte("{}")}
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

// check checks that a store has what it should, and no more.
func (m stored) check(t *testing.T, s Store) {
	ctx := t.Context()
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

// givenUp is called when the caller has gone.
func givenUp(t *testing.T, s Store) {
	st := begin(t, s, "aaa11", 1)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	next := store.Batch{N: 2, FirstLine: 100, Lines: 1, Body: []byte("x\n")}
	for name, call := range map[string]func() error{
		"AddRecording": func() error { return s.AddRecording(ctx, *recording("bbb22")) },
		"AddStream":    func() error { _, err := s.AddStream(ctx, "aaa11", "another", true); return err },
		"AppendBatch":  func() error { return s.AppendBatch(ctx, st, next, 2) },
		"BeginStream": func() error {
			_, err := s.BeginStream(ctx, recording("ccc33"), store.Stream{Recording: "ccc33", Name: "c", Live: true}, next, 2)
			return err
		},
		"Batch":       func() error { _, err := s.Batch(ctx, st, 1); return err },
		"BatchesWith": func() error { _, err := s.BatchesWith(ctx, st, 1, 9, 9); return err },
		"Imported":    func() error { return s.Imported(ctx, "aaa11") },
		"Recording":   func() error { _, err := s.Recording(ctx, "aaa11"); return err },
		"Recordings":  func() error { _, _, err := s.Recordings(ctx, 1, 0); return err },
		"SetHousekeeping": func() error {
			return s.SetHousekeeping(ctx, store.Recording{ID: "aaa11", Name: "x", Labels: []byte("{}")})
		},
		"SetSummary":      func() error { return s.SetSummary(ctx, "aaa11", 0, []byte("x")) },
		"DeleteRecording": func() error { return s.DeleteRecording(ctx, "aaa11") },
		"Sizes":           func() error { _, err := s.Sizes(ctx); return err },
		"LiveStream":      func() error { _, err := s.LiveStream(ctx, "stream of aaa11"); return err },
		"StreamByID":      func() error { _, err := s.StreamByID(ctx, st); return err },
		"Streams":         func() error { _, err := s.Streams(ctx, "aaa11"); return err },
		"StreamCount":     func() error { _, err := s.StreamCount(ctx, "aaa11"); return err },
		"SeenNS":          func() error { _, err := s.SeenNS(ctx); return err },
		"Seen":            func() error { return s.Seen(ctx, 5) },
		"SetResult":       func() error { return s.SetResult(ctx, st, &store.Derived{Analysed: 1, Result: []byte("x")}) },
		"Result":          func() error { _, err := s.Result(ctx, st); return err },
		"Digests":         func() error { _, err := s.Digests(ctx, "aaa11"); return err },
		"State":           func() error { _, _, err := s.State(ctx, st); return err },
		"PutChunks":       func() error { return s.PutChunks(ctx, st, []store.Chunk{{N: 0, Body: []byte("x")}}) },
		"Chunk":           func() error { _, err := s.Chunk(ctx, st, 0); return err },
		"DropStaged":      func() error { return s.DropStaged(ctx, st) },
		"PutCheckpoint":   func() error { return s.PutCheckpoint(ctx, st, 1, "p", []byte("x")) },
		"Checkpoint":      func() error { _, _, err := s.Checkpoint(ctx, st, "p"); return err },
		"DropCheckpoint":  func() error { return s.DropCheckpoint(ctx, st) },
		"Unfinished":      func() error { _, err := s.Unfinished(ctx, "k"); return err },
		"Stale":           func() error { _, _, err := s.Stale(ctx, "k", func(store.Stream) bool { return false }); return err },
		"Broken":          func() error { _, err := s.Broken(ctx); return err },
		"Again":           func() error { return s.Again(ctx, st) },
	} {
		require.ErrorIs(t, call(), context.Canceled, name)
	}
	list, total, err := s.Recordings(t.Context(), 10, 0)
	require.NoError(t, err)
	assert.Equal(t, 1, total)
	assert.Empty(t, list[0].Name)
	got, err := s.StreamByID(t.Context(), st)
	require.NoError(t, err)
	assert.EqualValues(t, 1, got.Batches)
	result, err := s.Result(t.Context(), st)
	require.NoError(t, err)
	assert.Nil(t, result)
}

func contracts(t *testing.T, s Store) {
	ctx := t.Context()
	_, err := s.Contract(ctx, "harbour")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, s.DropContract(ctx, "harbour"), store.ErrNotFound)
	put := time.Unix(1_790_000_000, 17)
	for _, body := range []string{"one", "another"} {
		require.NoError(t, s.SetContract(ctx, store.Contract{App: "harbour", Body: []byte(body), Put: put}))
	}
	require.NoError(t, s.SetContract(ctx, store.Contract{App: "ferry", Body: []byte("ferry"), Put: put}))
	got, err := s.Contract(ctx, "harbour")
	require.NoError(t, err)
	require.Equal(t, "another", string(got.Body))
	require.True(t, got.Put.Equal(put))
	require.NoError(t, s.DropContract(ctx, "harbour"))
	_, err = s.Contract(ctx, "harbour")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = s.Contract(ctx, "ferry")
	require.NoError(t, err)
}
