package ingest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/store"
)

// Resume analyses what was accepted and not analysed when the last process ended, and what another program could not
// analyse; imports that were cut off are deleted. What goes wrong with one stream is logged and keeps nothing else from
// being ready. It returns when that is done, or soon after ctx ends.
func (h *Hub) Resume(ctx context.Context) error {
	for _, rec := range h.catalog.CutOff() {
		h.log.Warn("deleting an import that was cut off; send the file again", "recording", rec.ID, "application", rec.App)
		if err := h.catalog.DeleteRecording(ctx, rec.ID); err != nil {
			h.log.Error("delete an import that was cut off", "recording", rec.ID, "error", err)
		}
	}
	if h.shared != nil {
		if err := h.shared.Work(worker{h}); err != nil {
			return err
		}
	}
	list, err := h.results.Unfinished(ctx, h.key)
	if err != nil {
		return fmt.Errorf("look for unfinished streams: %w", err)
	}
	if n, err := h.results.Broken(ctx); err == nil {
		h.stats.broken.Store(n)
	}
	for _, st := range list {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		h.log.Info("analysing again what was accepted before the last stop", "stream", st.Name, "batches", st.Batches)
		if err := h.resume(ctx, st); err != nil && ctx.Err() == nil {
			h.log.Error("analyse a stream again", "stream", st.Name, "recording", st.Recording, "error", err)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	h.ready.Store(true)
	h.wg.Go(func() {
		h.refresh()
		for h.shared != nil && h.ctx.Err() == nil { // partitions come and go, with what others have derived
			select {
			case <-time.After(refreshEvery):
				h.refresh()
			case <-h.ctx.Done():
			}
		}
	})
	return nil
}

// refreshEvery is how often a service looks for what another version has derived in the partitions that it has taken over.
const refreshEvery = 10 * time.Second

// refresh reanalyses, one after the other and those of the newest recordings first, what was derived with another key: by
// another version of the program, or with other settings. Until then, what is stored is shown as stale.
func (h *Hub) refresh() {
	tried := map[int64]bool{} // once is enough: what fails, or is not done, waits for the next start
	but := func(st store.Stream) bool {
		if tried[st.ID] {
			return true
		}
		h.mu.Lock()
		defer h.mu.Unlock()
		return st.Live && h.runners[st.Name] != nil // its runner stores what it derives
	}
	for h.ctx.Err() == nil {
		st, n, err := h.results.Stale(h.ctx, h.key, but)
		h.stats.stale.Store(int64(n))
		if errors.Is(err, store.ErrNotFound) {
			return
		}
		if err == nil {
			if done := h.stats.refreshed.Load(); done == 0 {
				h.log.Info("reanalysing what another version, or other settings, derived", "streams", n)
			}
			tried[st.ID] = true
			err = h.reanalyse(h.ctx, st)
			h.stats.refreshed.Add(1)
		}
		if err != nil && h.ctx.Err() == nil {
			h.log.Error("reanalyse a stream", "stream", st.Name, "recording", st.Recording, "error", err)
			if st.ID == 0 {
				return // the store cannot be read
			}
		}
	}
}

// reanalyse analyses a stream again. It is replaced as a whole, and shown as it was until then.
func (h *Hub) reanalyse(ctx context.Context, st store.Stream) error {
	select {
	case h.repairs <- struct{}{}:
		defer func() { <-h.repairs }()
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := h.reread(ctx, st); err != nil {
		return err
	}
	h.pieces.forget(st.ID)
	return nil
}

// resume analyses one stream as far as it is stored, and stores what was found.
func (h *Hub) resume(ctx context.Context, st store.Stream) error {
	if st.BrokenBy != "" {
		if err := h.results.Again(ctx, st.ID); err != nil {
			return err
		}
	}
	return h.reread(ctx, st)
}

// reread analyses a stream's stored batches, and stores what was found.
func (h *Hub) reread(ctx context.Context, st store.Stream) error {
	if !st.Live {
		return h.replay(ctx, st)
	}
	r, err := h.load(ctx, st.Name, nil, "")
	if err != nil {
		return err
	}
	r.ask(ctx) // it answers when it has read its stream again
	if !r.live() {
		r.leave(ctx)
	}
	return ctx.Err()
}

// replay analyses an imported stream's stored batches, and stores what was found and the log of its scopes again.
func (h *Hub) replay(ctx context.Context, st store.Stream) error {
	stop := &meter.Stop{}
	defer context.AfterFunc(ctx, stop.Call)()
	failed := h.results.DropStaged(ctx, st.ID)
	s, _, err := h.replayInto(ctx, st, stop, func(c derive.Chunk) {
		if failed == nil {
			failed = h.results.PutChunks(ctx, st.ID, []store.Chunk{{N: store.Stage(c.Info.N), Body: c.Body}})
		}
	})
	if err != nil {
		return err
	}
	s.Finish()
	result, state := s.Result(), s.State()
	if s.Interrupted() {
		return engine.ErrInterrupted
	}
	if failed != nil {
		return failed
	}
	h.noteBroken(s, st)
	if err := h.putDerived(ctx, st.ID, st.Batches, result, state, true); err != nil {
		return err
	}
	h.tell(st.Recording)
	return nil
}

// replayInto analyses a stream's stored batches, from where its analysis was kept; full parts of the log of its scopes go to
// chunk. It returns how many lines the kept analysis covered too. Batches that are damaged break the stream.
func (h *Hub) replayInto(ctx context.Context, st store.Stream, stop *meter.Stop, chunk func(derive.Chunk)) (*engine.Analysis, int64, error) {
	s, covered := h.begin(ctx, st, chunk)
	s.Obey(stop)
	if st.Live {
		s.Remember(h.share())
	}
	lines := st.Lines
	for n := covered + 1; n <= st.Batches && s.Broken() == nil; n++ {
		b, err := h.batches.Batch(ctx, st.ID, n)
		switch {
		case errors.Is(err, store.ErrDamaged), errors.Is(err, store.ErrNotFound):
			s.Break(&engine.Broken{Why: fmt.Sprintf("batch %d of %d cannot be read from the store; the others are kept, and can be exported", n, st.Batches)})
			h.log.Error("a batch cannot be read", "stream", st.Name, "batch", n, "error", err)
			continue
		case err != nil:
			return nil, 0, fmt.Errorf("read stream %s again: %w", st.Name, err)
		}
		if n == covered+1 {
			lines = b.FirstLine - 1
		}
		analyse(s, b.Body, b.FirstLine)
		if s.Interrupted() {
			return nil, 0, engine.ErrInterrupted
		}
	}
	if s.Ended() {
		s.Finish()
	}
	return s, lines, nil
}

// noteBroken logs that the analysis of a stream broke off.
func (h *Hub) noteBroken(s *engine.Analysis, st store.Stream) {
	if b := s.Broken(); b != nil {
		h.log.Error("the analysis of a stream broke off; its batches are kept", "stream", st.Name, "recording", st.Recording, "line", b.Line, "why", b.Why, "stack", b.Stack)
	}
}

// repair has a stream analysed again, whose derived data cannot be read, when there is time for it.
func (h *Hub) repair(st store.Stream, why error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if _, going := h.repaired[st.ID]; going || h.closed {
		return
	}
	h.log.Error("what was derived from a stream cannot be read; it is analysed again", "stream", st.Name, "recording", st.Recording, "error", why)
	if h.shared != nil && st.Live {
		if who, err := h.shared.Whose(st.Name); err != nil || who != "" {
			h.askRepair(st, who)
			return
		}
	}
	h.again(st)
}

// askRepair has the service that works on a stream analyse it again; where none does yet, the next reader asks. The caller holds
// mu.
func (h *Hub) askRepair(st store.Stream, who string) {
	h.repaired[st.ID] = struct{}{}
	h.wg.Go(func() {
		if question, err := json.Marshal(st.Recording); err == nil && who != "" {
			if _, err := h.shared.Ask(h.ctx, who, askAgain, question); err != nil && h.ctx.Err() == nil {
				h.log.Error("ask for a stream to be analysed again", "stream", st.Name, "service", who, "error", err)
			}
		}
		select { // it takes a while
		case <-time.After(refreshEvery):
		case <-h.ctx.Done():
		}
		h.mu.Lock()
		delete(h.repaired, st.ID)
		h.mu.Unlock()
	})
}

// again reanalyses a stream in the background, one after the other. The caller holds mu.
func (h *Hub) again(st store.Stream) {
	h.repaired[st.ID] = struct{}{}
	h.wg.Go(func() {
		defer func() {
			h.mu.Lock()
			delete(h.repaired, st.ID)
			h.mu.Unlock()
		}()
		select {
		case h.repairs <- struct{}{}:
			defer func() { <-h.repairs }()
		case <-h.ctx.Done():
			return
		}
		h.mu.Lock()
		run := h.runners[st.Name]
		h.mu.Unlock()
		if run != nil && st.Live {
			run.end(ErrBusy)
		}
		err := h.results.Again(h.ctx, st.ID)
		if err == nil {
			h.pieces.forget(st.ID)
			if st, err = h.catalog.StreamByID(h.ctx, st.ID); err == nil {
				err = h.resume(h.ctx, st)
			}
		}
		if err != nil && h.ctx.Err() == nil {
			h.log.Error("analyse a stream again", "stream", st.Name, "recording", st.Recording, "error", err)
		}
		h.tell(st.Recording)
	})
}

// Again has all streams of the recording that name means reanalysed, in the background, and returns how many.
func (h *Hub) Again(ctx context.Context, name string) (int, error) {
	rec, list, err := h.named(ctx, name)
	if err != nil {
		return 0, err
	}
	if rec.Importing {
		return 0, ErrRunning
	}
	n, err := h.againMine(list)
	if err != nil || h.shared == nil {
		return n, err
	}
	question, err := json.Marshal(rec.ID)
	if err != nil {
		return n, fmt.Errorf("ask the other services: %w", err)
	}
	for _, answer := range h.shared.AskAll(ctx, askAgain, question) {
		theirs := 0
		if json.Unmarshal(answer, &theirs) == nil {
			n += theirs
		}
	}
	return n, nil
}

// againMine has those of some streams reanalysed that are this service's to work on.
func (h *Hub) againMine(list []store.Stream) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		return 0, ErrClosed
	}
	n := 0
	for _, st := range list {
		if h.shared != nil {
			if who, err := h.shared.Whose(st.Name); err != nil || who != "" {
				continue
			}
		}
		if _, going := h.repaired[st.ID]; !going {
			h.again(st)
			n++
		}
	}
	return n, nil
}
