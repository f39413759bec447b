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
)

// ErrRunning says that a recording is being written.
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
	rec, err := h.store.Recording(ctx, name)
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
	if err := h.store.SetHousekeeping(ctx, rec); err != nil {
		return views.Summary{}, err
	}
	h.tell(rec.ID)
	return h.Summary(ctx, rec.ID)
}

// Delete removes the recording that name means, unless it is being written.
func (h *Hub) Delete(ctx context.Context, name string) error {
	rec, err := h.store.Recording(ctx, name)
	if err != nil {
		return err
	}
	if h.running(rec.ID) {
		return ErrRunning
	}
	h.mu.Lock()
	var loaded []*runner
	for _, r := range h.runners {
		if r.stored.Recording == rec.ID {
			loaded = append(loaded, r)
			delete(h.runners, r.stored.Name)
		}
	}
	h.mu.Unlock()
	for _, r := range loaded {
		close(r.quit)
		<-r.gone
	}
	if err := h.store.DeleteRecording(ctx, rec.ID); err != nil {
		return err
	}
	h.tell(rec.ID)
	return nil
}

// Export writes all lines of the recording that name means, one stream behind the other, as they came.
func (h *Hub) Export(ctx context.Context, name string, out io.Writer) error {
	rec, err := h.store.Recording(ctx, name)
	if err != nil {
		return err
	}
	list, err := h.store.Streams(ctx, rec.ID)
	if err != nil {
		return err
	}
	for _, st := range list {
		for n := int64(1); n <= st.Batches; n++ {
			b, err := h.store.Batch(ctx, st.ID, n)
			if err != nil {
				return err
			}
			if size := len(b.Body); size > 0 && b.Body[size-1] != '\n' {
				b.Body = append(b.Body, '\n')
			}
			if _, err := out.Write(b.Body); err != nil {
				return err
			}
		}
	}
	return nil
}

// Keep says for how long recordings are kept, and how much of them; 0 is without bound.
type Keep struct {
	For   time.Duration // since a recording's latest batch
	Bytes int64         // of all batches, as stored
}

// Sizes returns how much each recording takes, the oldest first.
func (h *Hub) Sizes(ctx context.Context) ([]store.Size, error) { return h.store.Sizes(ctx) }

// Tidy deletes what is older than is kept, and then the oldest until the rest fits. Pinned recordings, and those that are
// being written, stay. It returns the ids of what was deleted.
func (h *Hub) Tidy(ctx context.Context, keep Keep) ([]string, error) {
	if keep.For <= 0 && keep.Bytes <= 0 {
		return nil, nil
	}
	list, err := h.store.Sizes(ctx)
	if err != nil {
		return nil, err
	}
	total := int64(0)
	for _, r := range list {
		total += r.Bytes
	}
	var gone []string
	for _, r := range list {
		old := keep.For > 0 && time.Since(time.Unix(0, r.LastNS)) > keep.For
		if r.Pinned || !old && (keep.Bytes <= 0 || total <= keep.Bytes) {
			continue
		}
		err := h.Delete(ctx, r.ID)
		if errors.Is(err, ErrRunning) {
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
	tick := time.NewTicker(tidyEvery)
	defer tick.Stop()
	for {
		gone, err := h.Tidy(ctx, keep)
		if err != nil && ctx.Err() == nil {
			h.log.Error("delete what is over the bounds", "error", err)
		}
		if len(gone) > 0 {
			h.log.Info("deleted what is over the bounds", "recordings", gone)
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
	}
}
