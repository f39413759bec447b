package ingest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"

	lru "github.com/hashicorp/golang-lru/v2"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// View waits until one more answer may be made from sources, which take much memory; done releases its place.
func (h *Hub) View(ctx context.Context) (done func(), err error) {
	if err := h.viewing.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { h.viewing.Release(1) }, nil
}

// Play waits until a recording may be played again, which takes as long as analysing it: one at a time, beside views. Done releases
// its place.
func (h *Hub) Play(ctx context.Context) (done func(), err error) {
	if err := h.playing.Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { h.playing.Release(1) }, nil
}

// The pieces of recordings that are cached, so that a second look at the same place costs no reading: some tens
// of MiB in all.
const (
	keptBatches = 48
	keptBytes   = 1 << 20 // a batch that is larger is not kept
	keptStates  = 16
	keptChunks  = 64
)

// pieces reads what views need from the store, and remembers the latest.
type pieces struct {
	log     store.Log
	results store.Results
	batches *lru.Cache[batchID, store.Batch]
	states  *lru.Cache[stateID, *derive.State]
	chunks  *lru.Cache[chunkID, []derive.Scope]
}

type (
	batchID struct{ stream, n int64 }
	stateID struct {
		stream, analysed int64
		received         int64
		key              string // with which it was derived: another service may have done so again
	}
	chunkID struct {
		stream int64
		n      int
		key    string
	}
)

func newPieces(l store.Log, r store.Results) *pieces {
	p := &pieces{log: l, results: r}
	// The only error is a size that is not positive.
	p.batches, _ = lru.New[batchID, store.Batch](keptBatches)
	p.states, _ = lru.New[stateID, *derive.State](keptStates)
	p.chunks, _ = lru.New[chunkID, []derive.Scope](keptChunks)
	return p
}

func (p *pieces) state(ctx context.Context, st store.Stream) (*derive.State, error) {
	id := stateID{st.ID, st.Analysed, st.ReceivedNS, st.DerivedBy}
	if s, ok := p.states.Get(id); ok {
		return s, nil
	}
	packed, _, err := p.results.State(ctx, st.ID)
	if err != nil || packed == nil {
		return nil, err
	}
	s := &derive.State{}
	if err := json.Unmarshal(packed, s); err != nil {
		return nil, fmt.Errorf("read the state of stream %s: %w (%w)", st.Name, store.ErrDamaged, err)
	}
	p.states.Add(id, s)
	return s, nil
}

// forget releases what is cached of a stream, which is about to be reanalysed.
func (p *pieces) forget(stream int64) {
	for _, id := range p.states.Keys() {
		if id.stream == stream {
			p.states.Remove(id)
		}
	}
	for _, id := range p.chunks.Keys() {
		if id.stream == stream {
			p.chunks.Remove(id)
		}
	}
}

func (p *pieces) batch(ctx context.Context, stream, n int64) (store.Batch, error) {
	id := batchID{stream, n}
	if b, ok := p.batches.Get(id); ok {
		return b, nil
	}
	b, err := p.log.Batch(ctx, stream, n)
	if err == nil && len(b.Body) <= keptBytes {
		p.batches.Add(id, b)
	}
	return b, err
}

// streamPieces is one stream's log and lines.
type streamPieces struct {
	ctx     context.Context
	pieces  *pieces
	stream  int64
	key     string // with which what is stored was derived
	pending []derive.Scope
}

// Chunk returns the rows of a part of the log of scopes.
func (s *streamPieces) Chunk(n int) ([]derive.Scope, error) {
	id := chunkID{stream: s.stream, n: n, key: s.key}
	if rows, ok := s.pieces.chunks.Get(id); ok {
		return rows, nil
	}
	body, err := s.pieces.results.Chunk(s.ctx, s.stream, n)
	if err != nil {
		return nil, err
	}
	rows, err := derive.Unpack(body)
	if err != nil {
		return nil, fmt.Errorf("part %d of the log of scopes: %w", n, err)
	}
	if len(rows) == derive.ChunkRows { // a shorter one may still grow
		s.pieces.chunks.Add(id, rows)
	}
	return rows, nil
}

// Pending returns the scopes that are in no part of the log yet.
func (s *streamPieces) Pending() ([]derive.Scope, error) { return s.pending, nil }

// maxBatchesRead bounds how many batches one look may read.
const maxBatchesRead = 512

// Between reads the lines from one to another.
func (s *streamPieces) Between(from, to int64, f func(*event.Event) bool) error {
	list, err := s.pieces.log.BatchesWith(s.ctx, s.stream, from, to, maxBatchesRead)
	if err != nil {
		return err
	}
	for _, n := range list {
		b, err := s.pieces.batch(s.ctx, s.stream, n)
		if err != nil {
			return err
		}
		if !between(b, from, to, f) {
			return nil
		}
	}
	return nil
}

// between reads the lines of one batch that lie between two, and reports whether to go on behind it.
func between(b store.Batch, from, to int64, f func(*event.Event) bool) bool {
	text, line := b.Body, b.FirstLine
	for ; line < from && len(text) > 0; line++ {
		end := bytes.IndexByte(text, '\n')
		if end < 0 {
			return true
		}
		text = text[end+1:]
	}
	in := reader.New(bytes.NewReader(text), reader.Options{FirstLine: line})
	for {
		l, err := in.Next()
		if err != nil { // io.EOF: bytes in memory fail in no other way
			return true
		}
		if l.Number > to || l.Event != nil && !f(l.Event) {
			return false
		}
	}
}
