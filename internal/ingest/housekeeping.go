package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// ErrRunning is returned when a recording is being written.
var ErrRunning = errors.New("it is being recorded; switch its application's recording off first")

// The bounds of what people say of a recording.
const (
	maxName   = 200 // bytes
	maxLabels = 50
)

// said puts what people said of a recording into its summary.
func said(s *views.Summary, rec store.Recording) {
	s.Name, s.Pinned, s.Labels = rec.Name, rec.Pinned, map[string]string{}
	_ = json.Unmarshal(rec.Labels, &s.Labels) // it is our own; labels that cannot be read are none
}

// Change renames, labels, pins or unpins the recording that name means, and returns it as it then is.
func (h *Hub) Change(ctx context.Context, name string, c views.Change) (views.Summary, error) {
	rec, err := h.catalog.Recording(ctx, name)
	if err != nil {
		return views.Summary{}, err
	}
	if c.Name != nil {
		if len(*c.Name) > maxName {
			return views.Summary{}, &Unusable{fmt.Sprintf("a name has at most %d bytes", maxName)}
		}
		rec.Name = *c.Name
	}
	if c.Pinned != nil {
		rec.Pinned = *c.Pinned
	}
	if c.Labels != nil {
		for key, value := range c.Labels {
			if len(c.Labels) > maxLabels || key == "" || len(key) > maxName || len(value) > maxName {
				return views.Summary{}, &Unusable{fmt.Sprintf("a recording has at most %d labels, each of a name and a value of at most %d bytes", maxLabels, maxName)}
			}
		}
		if rec.Labels, err = json.Marshal(c.Labels); err != nil {
			return views.Summary{}, fmt.Errorf("pack labels: %w", err)
		}
	}
	if err := h.catalog.SetHousekeeping(ctx, rec); err != nil {
		return views.Summary{}, err
	}
	h.tell(rec.ID)
	return h.Summary(ctx, rec.ID)
}

// Delete removes the recording that name means, unless it is being written live. An import of it is ended.
func (h *Hub) Delete(ctx context.Context, name string) error {
	rec, err := h.catalog.Recording(ctx, name)
	if err != nil {
		return err
	}
	return h.delete(ctx, rec.ID, true)
}

// delete removes a recording. From when it is marked until it is gone, no stream of it is loaded and none joins it. Where
// imports is not set, a file that is being read is running, too.
func (h *Hub) delete(ctx context.Context, id string, imports bool) error {
	elsewhere, err := h.written(ctx, id)
	if err != nil {
		return err
	}
	h.mu.Lock()
	_, going := h.deleting[id]
	file := h.imports[id]
	running := elsewhere || file != nil && !imports
	var loaded []*runner
	for _, r := range h.runners {
		if r.stored.Recording == id {
			running = running || r.live()
			loaded = append(loaded, r)
		}
	}
	if going || running {
		h.mu.Unlock()
		if going {
			return store.ErrNotFound
		}
		return ErrRunning
	}
	h.deleting[id] = struct{}{}
	h.deletions++
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		delete(h.deleting, id)
		h.deletions++
		delete(h.versions, id)
		h.mu.Unlock()
	}()
	for _, r := range loaded {
		r.end(store.ErrNotFound)
	}
	if file != nil {
		file.cancel(ErrDeleted)
		select {
		case <-file.gone: // it has deleted what there was
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err := h.catalog.DeleteRecording(ctx, id); err != nil {
		return err
	}
	h.tell(id)
	return nil
}

// Export writes all lines of the recording that name means, one stream behind the other, as they came. Batches that cannot
// be read are left out: a gap line says how many lines that are, and their number is returned. A stream whose first one is
// among them gets a hello that says so.
func (h *Hub) Export(ctx context.Context, name string, out io.Writer) (damaged int, err error) {
	rec, list, err := h.named(ctx, name)
	if err != nil {
		return 0, err
	}
	for _, st := range list {
		for n := int64(1); n <= st.Batches; n++ {
			b, err := h.batches.Batch(ctx, st.ID, n)
			if errors.Is(err, store.ErrDamaged) || errors.Is(err, store.ErrNotFound) {
				damaged++
				b.Body = LostBatch(rec, st, b)
				h.log.Error("a batch cannot be exported", "stream", st.Name, "batch", n, "error", err)
			} else if err != nil {
				return damaged, err
			}
			if size := len(b.Body); size > 0 && b.Body[size-1] != '\n' {
				b.Body = append(b.Body, '\n')
			}
			if _, err := out.Write(b.Body); err != nil {
				return damaged, err
			}
		}
	}
	return damaged, nil
}

// LostBatch returns the lines that replace an unreadable batch.
func LostBatch(rec store.Recording, st store.Stream, b store.Batch) []byte {
	var lines []byte
	if b.N == 1 {
		hello := event.Event{
			Kind: event.Hello, Format: event.Format, App: rec.App, Stream: st.Name, Version: rec.Version, Environment: rec.Environment,
			Start: time.Unix(0, rec.CreatedNS).UTC().Format(time.RFC3339Nano), Labels: map[string]string{"keenlantern": "the first batch could not be read; the start is when the recording began"},
			Has: event.Of(event.FFormat, event.FApp, event.FStream, event.FStart, event.FVersion, event.FEnvironment, event.FLabels),
		}
		lines = event.AppendLine(lines, &hello)
	}
	gap := event.Event{Kind: event.Gap, Lost: max(1, b.Lines), Why: fmt.Sprintf("batch %d could not be read from the store", b.N), Has: event.Of(event.FLost, event.FWhy)}
	return event.AppendLine(lines, &gap)
}

// Keep says for how long recordings are kept, and how much of them; 0 is without bound.
type Keep struct {
	For   time.Duration // since a recording's latest batch
	Bytes int64         // of all batches, as stored
}

// Sizes returns how much each recording takes, the oldest first.
func (h *Hub) Sizes(ctx context.Context) ([]store.Size, error) { return h.catalog.Sizes(ctx) }

// Tidy deletes what is older than is kept, and then the oldest until the rest fits. Pinned recordings, and those that are
// being written, stay. It returns the ids of what was deleted.
func (h *Hub) Tidy(ctx context.Context, keep Keep) ([]string, error) {
	if keep.For <= 0 && keep.Bytes <= 0 {
		return nil, nil
	}
	list, err := h.catalog.Sizes(ctx)
	if err != nil {
		return nil, err
	}
	total := int64(0)
	for _, r := range list {
		total += r.Bytes
	}
	if h.Retention().Held {
		return nil, nil
	}
	var gone []string
	now := time.Now().UnixNano()
	for _, r := range list {
		old := keep.For > 0 && now-r.LastNS > keep.For.Nanoseconds()
		if r.Pinned || !old && (keep.Bytes <= 0 || total <= keep.Bytes) {
			continue
		}
		err := h.delete(ctx, r.ID, false)
		if errors.Is(err, ErrRunning) || errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return gone, err
		}
		total -= r.Bytes
		gone = append(gone, r.ID)
	}
	return gone, nil
}

// tidyEvery is how often a service looks.
const tidyEvery = time.Minute

// Housekeep tidies again and again until ctx ends.
func (h *Hub) Housekeep(ctx context.Context, keep Keep) {
	h.watchClock(ctx)
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for {
		var gone []string
		var err error
		if h.shared == nil || h.shared.First() {
			gone, err = h.Tidy(ctx, keep)
		}
		if err != nil && ctx.Err() == nil {
			h.log.Error("delete what is over the bounds", "error", err)
		}
		if len(gone) > 0 {
			h.log.Info("deleted what is over the bounds", "recordings", gone)
		}
		select {
		case <-tick.C:
			h.watchClock(ctx)
		case <-ctx.Done():
			return
		}
	}
}
