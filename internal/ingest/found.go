package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/store"
)

// named returns the recording that a name means, and its streams.
func (h *Hub) named(ctx context.Context, name string) (rec store.Recording, list []store.Stream, err error) {
	if rec, err = h.catalog.Recording(ctx, name); err != nil {
		return rec, nil, err
	}
	list, err = h.catalog.Streams(ctx, rec.ID)
	return rec, list, err
}

// stale counts the streams whose stored result was derived with another key.
func (h *Hub) stale(list []store.Stream) (n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, st := range list {
		if st.Analysed > 0 && st.DerivedBy != h.key && (!st.Live || h.runners[st.Name] == nil) {
			n++
		}
	}
	return n
}

// together returns what was found in some streams. A few are put together at once, the others wait: the result of a large
// recording takes much memory while it is read.
func (h *Hub) together(ctx context.Context, list []store.Stream) (*engine.Result, error) {
	if err := h.merging.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	defer h.merging.Release(1)
	far, err := h.afar(ctx, list, false)
	if err != nil {
		return nil, err
	}
	var all engine.Merger
	for _, st := range list {
		r, err := h.streamResult(ctx, st, far)
		if err != nil {
			return nil, err
		}
		if r != nil {
			all.Add(r)
		}
	}
	return all.Result(), nil
}

// digest is what a summary needs of a recording: its streams, and how bad each finding is.
type digest struct {
	infos      []engine.Info
	severities map[string]finding.Severity
}

// keptDigests is how many of recordings that nothing is added to any more are kept.
const keptDigests = 64

// digestOf returns that of a recording, kept from before where nothing of it can have changed.
func (h *Hub) digestOf(ctx context.Context, recording string, list []store.Stream) (*digest, error) {
	key := h.version(recording, list)
	if d, ok := h.digest.get(key); ok && key != "" {
		return d, nil
	}
	all, err := h.digests(ctx, recording, list)
	if err != nil {
		return nil, err
	}
	d := &digest{infos: make([]engine.Info, 0, len(all)), severities: engine.Severities(all)}
	for n := range all {
		d.infos = append(d.infos, all[n].Info)
	}
	if key != "" && !h.repairing(list) {
		h.digest.add(key, d)
	}
	return d, nil
}

// digests returns what lists need of some streams of a recording, in their order. It reads counters, not results.
func (h *Hub) digests(ctx context.Context, recording string, list []store.Stream) ([]engine.Digest, error) {
	now := map[string]*engine.Result{} // first: what leaves memory has been stored by then
	h.mu.Lock()
	for _, st := range list {
		if r := h.runners[st.Name]; st.Live && r != nil {
			now[st.Name] = r.latest.Load()
		}
	}
	h.mu.Unlock()
	far, err := h.afar(ctx, list, false)
	if err != nil {
		return nil, err
	}
	for name, s := range far {
		now[name] = s.Result
	}
	packed, err := h.results.Digests(ctx, recording)
	if err != nil {
		return nil, err
	}
	out := make([]engine.Digest, 0, len(list))
	err = someAtOnce(list, func(st store.Stream) (*engine.Digest, error) {
		if r := now[st.Name]; st.Live && r != nil {
			d := r.Digest()
			return &d, nil
		}
		var d engine.Digest
		if text := packed[st.ID]; text != nil && json.Unmarshal(text, &d) == nil {
			return &d, nil
		}
		// A version that kept none stored it, or it is damaged.
		r, err := h.streamResult(ctx, st, far)
		if err != nil || r == nil {
			return nil, err
		}
		d = r.Digest()
		return &d, nil
	}, func(d *engine.Digest) {
		if d != nil {
			out = append(out, *d)
		}
	})
	return out, err
}

// streamResult returns what a runner last made known, or what is stored; nil if there is neither. What is stored and cannot
// be read is made again meanwhile. Far is what other services know.
func (h *Hub) streamResult(ctx context.Context, st store.Stream, far map[string]seen) (*engine.Result, error) {
	if s := far[st.Name]; st.Live && s.Result != nil {
		return s.Result, nil
	}
	run, st := h.asStored(ctx, st)
	if run != nil {
		if now := run.latest.Load(); now != nil {
			return now, nil
		}
	}
	packed, err := h.results.Result(ctx, st.ID)
	if err != nil && !errors.Is(err, store.ErrDamaged) {
		return nil, err
	}
	if err == nil && packed == nil {
		return nil, nil
	}
	r := &engine.Result{}
	if err == nil {
		if err = json.Unmarshal(packed, r); err == nil {
			return r, nil
		}
		err = fmt.Errorf("read the result of stream %s: %w", st.Name, err)
	}
	h.repair(st, err)
	return h.brokenResult(st, "", &engine.Broken{Why: "its stored result is damaged; it is being analysed again"}), nil
}

// asStored returns the runner of a stream; where it has none, the stream as it is stored now: its runner may have stored what
// it knew, and left, since the stream was read.
func (h *Hub) asStored(ctx context.Context, st store.Stream) (*runner, store.Stream) {
	if !st.Live {
		return nil, st
	}
	h.mu.Lock()
	run := h.runners[st.Name]
	h.mu.Unlock()
	if run == nil && st.Analysed < st.Batches {
		if now, err := h.catalog.StreamByID(ctx, st.ID); err == nil {
			st = now
		}
	}
	return run, st
}

// brokenResult is what is said of a stream of which nothing can be said.
func (h *Hub) brokenResult(st store.Stream, app string, b *engine.Broken) *engine.Result {
	r := engine.BrokenStream(h.set, b).Result()
	r.Streams[0].App, r.Streams[0].Stream = app, st.Name
	return r
}

// putDerived stores what was found in a stream, and what views answer from; staged where the log of its scopes was staged.
func (h *Hub) putDerived(ctx context.Context, stream, batches int64, r *engine.Result, s *derive.State, staged bool) error {
	result, err := json.Marshal(r)
	if err != nil {
		return fmt.Errorf("pack the result of stream %d: %w", stream, err)
	}
	digest, err := json.Marshal(r.Digest())
	if err != nil {
		return fmt.Errorf("pack the digest of stream %d: %w", stream, err)
	}
	state, err := json.Marshal(s)
	if err != nil {
		return fmt.Errorf("pack the state of stream %d: %w", stream, err)
	}
	err = h.results.SetResult(ctx, stream, &store.Derived{
		Analysed: batches, Ended: r.Streams[0].Ended, Broken: r.Streams[0].Broken != nil, Key: h.key,
		Result: result, Digest: digest, State: state, Staged: staged,
	})
	if err != nil {
		return err
	}
	n, err := h.results.Broken(ctx)
	h.stats.broken.Store(n)
	return err
}
