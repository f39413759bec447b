package ingest

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// Summary returns what a list shows of the recording that name means, as it is now.
func (h *Hub) Summary(ctx context.Context, name string) (views.Summary, error) {
	s, _, err := h.Recording(ctx, name)
	return s, err
}

// Recording returns the same together with the recording's streams.
func (h *Hub) Recording(ctx context.Context, name string) (views.Summary, []engine.Info, error) {
	rec, list, err := h.named(ctx, name)
	if err != nil {
		return views.Summary{}, nil, err
	}
	h.prepare(rec.ID, list)
	return h.summarise(ctx, rec, list)
}

// Result returns the id of the recording that name means, and what was found in it, all streams together.
func (h *Hub) Result(ctx context.Context, name string) (string, *engine.Result, error) {
	rec, list, err := h.named(ctx, name)
	if err != nil {
		return "", nil, err
	}
	key := h.version(rec.ID, list)
	if key != "" {
		w, err := h.wholeOf(ctx, key, list)
		if err != nil {
			return "", nil, err
		}
		return rec.ID, w.result, nil
	}
	r, err := h.together(ctx, list)
	return rec.ID, r, err
}

func (h *Hub) summarise(ctx context.Context, rec store.Recording, list []store.Stream) (views.Summary, []engine.Info, error) {
	d, err := h.digestOf(ctx, rec.ID, list)
	if err != nil {
		return views.Summary{}, nil, err
	}
	accepted := h.accepts(rec.App)
	s := views.Summarise(views.Recording{
		ID: rec.ID, App: rec.App, Version: rec.Version, Environment: rec.Environment, Source: rec.Source,
		Created: time.Unix(0, rec.CreatedNS),
	}, d.infos, d.severities, accepted)
	s.AcceptedBy = sumOf(accepted)
	if h.running(rec.ID) && s.Health.Broken == 0 {
		s.State = "running"
	}
	if rec.Importing {
		s.State = "importing"
	}
	if s.Stale = h.stale(list); s.Stale == 0 {
		s.DerivedBy = h.key
	}
	said(&s, rec)
	return s, d.infos, nil
}

// Summaries returns a page of them, newest first, and how many recordings there are in all. One of a recording that nothing
// is added to is kept for the next list.
func (h *Hub) Summaries(ctx context.Context, limit, offset int) ([]views.Summary, int, error) {
	list, total, err := h.catalog.Recordings(ctx, limit, offset)
	if err != nil {
		return nil, 0, err
	}
	out := make([]views.Summary, 0, len(list))
	acceptedBy := map[string]string{} // by application
	for _, rec := range list {
		if _, known := acceptedBy[rec.App]; !known {
			acceptedBy[rec.App] = sumOf(h.accepts(rec.App))
		}
	}
	for _, rec := range list {
		var s views.Summary
		passing := h.loaded(rec.ID) || rec.Importing
		if passing || json.Unmarshal(rec.Summary, &s) != nil || s.DerivedBy != h.key || s.AcceptedBy != acceptedBy[rec.App] {
			streams, err := h.catalog.Streams(ctx, rec.ID)
			if err == nil {
				s, _, err = h.summarise(ctx, rec, streams)
			}
			if err != nil {
				return nil, 0, err
			}
			if packed, err := json.Marshal(s); err == nil && !passing && s.Stale == 0 {
				if err := h.catalog.SetSummary(ctx, rec.ID, rec.Changes, packed); err != nil {
					h.log.Warn("a summary could not be kept; it is made again for the next list", "recording", rec.ID, "error", err)
				}
			}
		}
		said(&s, rec)
		out = append(out, s)
	}
	return out, total, nil
}

// Accept has the findings that accepts returns for an application, by their ids, be counted apart. It is called before the hub is used,
// and accepts by several goroutines.
func (h *Hub) Accept(accepts func(app string) map[string]string) { h.accepts = accepts }

// sumOf sums up which findings are accepted, "" for none.
func sumOf(accepted map[string]string) string {
	if len(accepted) == 0 {
		return ""
	}
	sum := sha256.New()
	for _, id := range slices.Sorted(maps.Keys(accepted)) {
		fmt.Fprintf(sum, "%s\x00", id)
	}
	return hex.EncodeToString(sum.Sum(nil)[:8])
}

// loaded reports whether a stream of the recording has a runner, running whether one is being written.
func (h *Hub) loaded(recording string) bool {
	loaded, _ := h.elsewhere(recording)
	return loaded || h.any(recording, func(*runner) bool { return true })
}

func (h *Hub) running(recording string) bool {
	_, running := h.elsewhere(recording)
	return running || h.any(recording, (*runner).live)
}

// elsewhere is the same for other services.
func (h *Hub) elsewhere(recording string) (loaded, running bool) {
	if h.shared == nil {
		return false, false
	}
	return h.shared.Elsewhere(recording)
}

func (h *Hub) any(recording string, is func(*runner) bool) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, r := range h.runners {
		if r.stored.Recording == recording && is(r) {
			return true
		}
	}
	return false
}
