package ingest

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// whole is what most views of a recording answer from: its streams put together. It is not changed once it is made.
type whole struct {
	result *engine.Result
	state  *derive.State   // of all streams, merged
	heads  []*derive.State // by stream; nil where nothing of it was analysed yet
}

// How many recordings that nothing is added to any more are kept as a whole, and for how long after they were made. Putting together
// forty streams takes seconds; what is kept of them takes as much memory as two or three.
const (
	keptWholes    = 3
	keptWholesFor = 15 * time.Minute
)

// kept holds values derived from the latest versions of some recordings, for keptWholesFor.
type kept[T any] struct{ list *lru.Cache[string, T] }

func newKept[T any](most int) kept[T] {
	list, _ := lru.New[string, T](most) // the only error is a size that is not positive
	return kept[T]{list}
}

func (k kept[T]) get(key string) (T, bool) { return k.list.Get(key) }

func (k kept[T]) add(key string, value T) {
	k.list.Add(key, value)
	time.AfterFunc(keptWholesFor, func() { k.list.Remove(key) })
}

// version names what is stored of some streams; "" where one of them is loaded, here or by another service, or not analysed to its end: then it
// is known better in memory.
func (h *Hub) version(recording string, list []store.Stream) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	var b strings.Builder
	b.WriteString(recording)
	for _, st := range list {
		if st.Live && (h.shared != nil || h.runners[st.Name] != nil || st.Analysed < st.Batches) {
			return ""
		}
		fmt.Fprintf(&b, " %d/%d/%d/%t/%s/%s", st.ID, st.Analysed, st.ReceivedNS, st.Ended, st.BrokenBy, st.DerivedBy)
	}
	return b.String()
}

// Source returns the recording that name means, to be asked by views, within a View or Play. It is good for one answer.
func (h *Hub) Source(ctx context.Context, name string) (*views.Source, error) {
	rec, list, err := h.named(ctx, name)
	if err != nil {
		return nil, err
	}
	key := h.version(rec.ID, list)
	if key != "" {
		w, err := h.wholeOf(ctx, key, list)
		if err != nil {
			return nil, err
		}
		return h.sourceFrom(ctx, rec, list, w), nil
	}
	far, err := h.afar(ctx, list, true)
	if err != nil {
		return nil, err
	}
	src := &views.Source{Recording: rec.ID, Stale: h.stale(list)}
	var all engine.Merger
	for _, st := range list {
		result, err := h.streamResult(ctx, st, far)
		if err != nil {
			return nil, err
		}
		if result != nil {
			all.Add(result)
		}
		s, err := h.sourceOf(ctx, st, far)
		if err != nil {
			return nil, err
		}
		if s != nil {
			s.Result = func() (*engine.Result, error) { return result, nil }
			src.Streams = append(src.Streams, *s)
		}
	}
	src.Result = all.Result()
	return src, nil
}

// wholeOf returns this version of a recording as a whole, from the cache or read again: once for all requests that wait for it, a few
// recordings at a time, since a large one takes much memory while it is read.
func (h *Hub) wholeOf(ctx context.Context, key string, list []store.Stream) (*whole, error) {
	if w, ok := h.wholes.get(key); ok {
		return w, nil
	}
	made := h.making.DoChan(key, func() (any, error) {
		h.mu.Lock()
		if h.closed {
			h.mu.Unlock()
			return nil, context.Canceled
		}
		h.wg.Add(1)
		h.mu.Unlock()
		defer h.wg.Done()
		// The hub's context, not the first request's: the others wait for the same.
		if err := h.merging.Acquire(h.ctx, 1); err != nil {
			return nil, err
		}
		defer h.merging.Release(1)
		w, err := h.makeWhole(h.ctx, list)
		if err == nil && !h.repairing(list) {
			h.wholes.add(key, w)
		}
		return w, err
	})
	select {
	case r := <-made:
		if r.Err != nil {
			return nil, r.Err
		}
		return r.Val.(*whole), nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// manyStreams is from how many on a recording is put together before it is asked for.
const manyStreams = 8

// prepare has a recording of many streams put together in the background: its views are likely to be asked for next, and would wait for seconds.
func (h *Hub) prepare(recording string, list []store.Stream) {
	key := h.version(recording, list)
	if key == "" || len(list) < manyStreams || h.wholes.list.Contains(key) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return
	}
	h.wg.Go(func() { _, _ = h.wholeOf(h.ctx, key, list) }) // the request that needs it reports the error
}

// repairing reports whether one of some streams is being analysed again, since its stored result was damaged.
func (h *Hub) repairing(list []store.Stream) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.ContainsFunc(list, func(st store.Stream) bool {
		_, is := h.repaired[st.ID]
		return is
	})
}

// makeWhole puts streams together that have ended, a few of them in memory at a time.
func (h *Hub) makeWhole(ctx context.Context, list []store.Stream) (*whole, error) {
	w := &whole{}
	var results engine.Merger
	var spans []derive.Span
	err := someAtOnce(list, func(st store.Stream) (*engine.Result, error) { return h.streamResult(ctx, st, nil) }, func(r *engine.Result) {
		if r == nil {
			return
		}
		results.Add(r)
		info := &r.Streams[0]
		spans = append(spans, derive.Span{Start: info.Start, T: info.Lasted})
	})
	if err != nil {
		return nil, err
	}
	states := derive.NewMerger(spans)
	err = someAtOnce(list, func(st store.Stream) (*views.StreamSource, error) { return h.sourceOf(ctx, st, nil) }, func(s *views.StreamSource) {
		if s == nil {
			w.heads = append(w.heads, nil)
			return
		}
		if w.heads = append(w.heads, s.Head.Head()); len(list) == 1 {
			w.state = s.Head // it has what merging leaves out
			return
		}
		states.Add(s.Head)
	})
	if w.result = results.Result(); w.state == nil {
		w.state = states.State()
	}
	return w, err
}

// someAtOnce reads something of each stream, as many at once as there are cores, and passes it on in the streams' order. Few are in memory
// at a time.
func someAtOnce[T any](list []store.Stream, read func(store.Stream) (T, error), put func(T)) error {
	for some := range slices.Chunk(list, int(atOnce())) {
		out := make([]T, len(some))
		var group errgroup.Group
		for n, st := range some {
			group.Go(func() (err error) {
				out[n], err = read(st)
				return err
			})
		}
		if err := group.Wait(); err != nil {
			return err
		}
		for n := range some {
			put(out[n])
		}
	}
	return nil
}

// sourceFrom returns a source that reads of single streams what is asked of them alone.
func (h *Hub) sourceFrom(ctx context.Context, rec store.Recording, list []store.Stream, w *whole) *views.Source {
	src := &views.Source{Recording: rec.ID, Stale: h.stale(list), Result: w.result, Merged: w.state}
	for n, st := range list {
		if w.heads[n] == nil {
			continue
		}
		p := &streamPieces{ctx: ctx, pieces: h.pieces, stream: st.ID, key: st.DerivedBy}
		src.Streams = append(src.Streams, views.StreamSource{
			Head: w.heads[n], Log: p, Lines: p,
			Load: func() (*derive.State, error) {
				state, err := h.pieces.state(ctx, st)
				if errors.Is(err, store.ErrDamaged) {
					h.repair(st, err)
				}
				if err == nil && state == nil {
					err = fmt.Errorf("stream %s is being analysed again; ask again in a moment", st.Name)
				}
				return state, err
			},
			Result: func() (*engine.Result, error) { return h.streamResult(ctx, st, nil) },
		})
	}
	return src
}

// sourceOf returns one stream as its runner knows it, here or far away, else as it was stored; nil where nothing of it was analysed yet.
func (h *Hub) sourceOf(ctx context.Context, st store.Stream, far map[string]seen) (*views.StreamSource, error) {
	p := &streamPieces{ctx: ctx, pieces: h.pieces, stream: st.ID, key: st.DerivedBy}
	if s := far[st.Name]; st.Live && s.State != nil {
		if s.Pending != nil {
			var err error
			if p.pending, err = derive.Unpack(s.Pending); err != nil {
				return nil, fmt.Errorf("read the open scopes of stream %s: %w", st.Name, err)
			}
		}
		return &views.StreamSource{Head: s.State, Log: p, Lines: p}, nil
	}
	run, st := h.asStored(ctx, st)
	if run != nil {
		if k, ok := run.ask(ctx); ok {
			p.pending = k.pending
			return &views.StreamSource{Head: k.state, Log: p, Lines: p}, nil
		}
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		_, st = h.asStored(ctx, st) // it has left
	}
	state, err := h.pieces.state(ctx, st)
	if errors.Is(err, store.ErrDamaged) {
		h.repair(st, err)
		return nil, nil
	}
	if err != nil || state == nil {
		return nil, err
	}
	return &views.StreamSource{Head: state, Log: p, Lines: p}, nil
}
