package ingest

import (
	"context"
	"encoding/json"
	"fmt"
	"runtime"
	"time"

	"keenlantern.example/internal/core"
	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/store"
)

// When an analysis is kept as it is. It costs as much as some hundred thousand lines, so it is done when there is time
// for it, at the end, and else only so often that a crash leaves little to read again.
const (
	checkpointLines = 2_000_000       // since the last one
	handOverLines   = 1_000_000       // the same where another service may have to go on, and clients may be waiting for it
	restLines       = 20_000          // since the last one, when nothing has come for a while
	restAfter       = 2 * time.Second // is a while
	lastLines       = 1_000           // since the last one, when the service ends
	closingTime     = 4 * time.Second // after which it ends without
)

func (h *Hub) checkpointLines() int64 {
	if h.shared != nil {
		return handOverLines
	}
	return checkpointLines
}

// keyOf returns the derivation key of what this program derives with some settings.
func keyOf(set *rules.Settings) string {
	text, err := json.Marshal(set)
	if err != nil {
		panic(err) // settings are numbers and texts
	}
	return core.Key(string(text))
}

// layout is how this program's memory looks, as far as the key does not: a kept analysis is memory.
var layout = runtime.Version() + " " + runtime.GOARCH

// begin returns the analysis of a stream as it was kept, and how many batches it covers; a new one where nothing was.
func (h *Hub) begin(ctx context.Context, st store.Stream, chunk func(derive.Chunk)) (*engine.Analysis, int64) {
	if !st.Live {
		return engine.NewStream(h.set, chunk), 0
	}
	if st.ID != 0 {
		body, batches, err := h.results.Checkpoint(ctx, st.ID, h.key+" "+layout)
		if err == nil && body != nil && batches <= st.Batches {
			s := engine.NewLive(h.set, chunk)
			if err = s.Thaw(body); err == nil {
				return s, batches
			}
		}
		if err != nil {
			h.log.Warn("a checkpoint cannot be used; the stream is read again from its start", "stream", st.Name, "error", err)
		}
	}
	return engine.NewLive(h.set, chunk), 0
}

// ended deletes what was kept of the analysis, which is complete.
func (r *runner) ended(ctx context.Context) {
	if r.dropped {
		return
	}
	r.dropped = true
	if err := r.hub.results.DropCheckpoint(ctx, r.stored.ID); err != nil {
		r.log.Error("delete a checkpoint", "error", err)
	}
}

// rested keeps the analysis if little is going on, or much has passed since it was last kept.
func (r *runner) rested(ctx context.Context) {
	since := r.stored.Lines - r.frozen
	resting := r.silent() > restAfter
	if since >= r.hub.checkpointLines() || resting && since >= restLines {
		r.checkpoint(ctx)
	}
}

// checkpoint keeps the analysis as it is.
func (r *runner) checkpoint(ctx context.Context) {
	if err := r.tryCheckpoint(ctx); err != nil {
		r.log.Error("keep the analysis; after a restart the stream is read again instead", "error", err)
	}
	r.frozen = r.stored.Lines // whatever became of it: it is not tried again at once
}

func (r *runner) tryCheckpoint(ctx context.Context) error {
	if r.stream.Ended() || r.stream.Broken() != nil || r.stream.Interrupted() {
		return nil
	}
	if err := r.saveScopes(ctx); err != nil { // what is in a chunk is not in the analysis any more
		return err
	}
	body, err := r.stream.Freeze()
	if err != nil {
		return fmt.Errorf("keep the analysis: %w", err)
	}
	return r.hub.results.PutCheckpoint(ctx, r.stored.ID, r.stored.Batches, r.hub.key+" "+layout, body)
}
