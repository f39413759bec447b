package ingest

import (
	"context"
	"encoding/json"
	"fmt"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/store"
)

// Kinds of questions that services ask each other.
const (
	askLook  = "look"  // what is known of streams
	askAgain = "again" // to reanalyse streams
	askLive  = "live"  // whether a recording is being written
	askClock = "clock" // whether old recordings are deleted
	askRight = "right" // to take the clock for right
)

// look asks for what is known of live streams.
type look struct {
	Streams []string `json:"streams"` // names
	State   bool     `json:"state"`   // what views answer from, too
}

// seen is what a service knows of a stream that it has in memory.
type seen struct {
	Result  *engine.Result `json:"result,omitempty"`
	State   *derive.State  `json:"state,omitempty"`
	Pending []byte         `json:"pending,omitempty"` // scopes, packed
}

// ErrPart is returned when a question cannot be answered as a whole.
type ErrPart struct{ Taken, Of int }

// Error returns how much is missing.
func (e *ErrPart) Error() string {
	return fmt.Sprintf("%d of %d partitions are being taken over by other services; ask again in a moment", e.Taken, e.Of)
}

// shareLog has the hub work with other services on a log that they share.
func (h *Hub) shareLog(s store.Shared) {
	h.shared = s
	h.front = newFront(h, s)
	s.Answer(askLook, answering(h.answerLook))
	s.Answer(askAgain, answering(h.answerAgain))
	s.Answer(store.AskDrop, answering(h.answerDrop))
	s.Answer(askClock, answering(func(context.Context, struct{}) (Retention, error) { return h.Retention(), nil }))
	s.Answer(askRight, answering(func(context.Context, struct{}) (bool, error) {
		h.resumeRetention()
		return true, nil
	}))
	s.Answer(askLive, answering(func(_ context.Context, recording string) (bool, error) {
		return h.any(recording, (*runner).live), nil
	}))
}

// answering reads a question and packs its answer.
func answering[Q, A any](f func(context.Context, Q) (A, error)) func(context.Context, []byte) ([]byte, error) {
	return func(ctx context.Context, text []byte) ([]byte, error) {
		var q Q
		if err := json.Unmarshal(text, &q); err != nil {
			return nil, fmt.Errorf("understand the question: %w", err)
		}
		a, err := f(ctx, q)
		if err != nil {
			return nil, err
		}
		return json.Marshal(a)
	}
}

func (h *Hub) loadedRunner(name string) *runner {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.runners[name]
}

func (h *Hub) answerLook(ctx context.Context, q look) (map[string]seen, error) {
	all := map[string]seen{}
	for _, name := range q.Streams {
		r := h.loadedRunner(name)
		if r == nil {
			continue
		}
		k, ok := r.ask(ctx) // it answers when it has read its stream
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if !ok {
			continue
		}
		s := seen{Result: r.latest.Load()}
		if q.State {
			s.State = k.state
			if len(k.pending) > 0 {
				s.Pending = derive.Pack(0, k.pending).Body
			}
		}
		all[name] = s
	}
	return all, nil
}

func (h *Hub) answerAgain(_ context.Context, recording string) (int, error) {
	ctx := h.ctx
	list, err := h.catalog.Streams(ctx, recording)
	if err != nil {
		return 0, err
	}
	return h.againMine(list)
}

func (h *Hub) answerDrop(_ context.Context, recording string) (bool, error) {
	h.mu.Lock()
	delete(h.versions, recording)
	file := h.imports[recording]
	var list []*runner
	for _, r := range h.runners {
		if r.of.ID == recording {
			list = append(list, r)
		}
	}
	h.mu.Unlock()
	for _, r := range list {
		r.end(store.ErrNotFound)
	}
	if file != nil {
		file.cancel(ErrDeleted)
	}
	return true, nil
}

// afar asks the services that work on some streams for what they know, where more was stored of them than their results cover. It
// returns that by the streams' names; what is missing there is answered from this service's memory, or from what is stored.
func (h *Hub) afar(ctx context.Context, list []store.Stream, state bool) (map[string]seen, error) {
	if h.shared == nil {
		return nil, nil
	}
	questions := map[string]*look{}
	for _, st := range list {
		if !st.Live || st.Analysed >= st.Batches {
			continue
		}
		who, err := h.shared.Whose(st.Name)
		if err != nil {
			return nil, h.part()
		}
		if who == "" {
			continue
		}
		if questions[who] == nil {
			questions[who] = &look{State: state}
		}
		questions[who].Streams = append(questions[who].Streams, st.Name)
	}
	all := map[string]seen{}
	for who, q := range questions {
		text, err := json.Marshal(q)
		if err != nil {
			return nil, fmt.Errorf("ask service %s: %w", who, err)
		}
		answer, err := h.shared.Ask(ctx, who, askLook, text)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			h.log.Warn("a service did not answer", "service", who, "error", err)
			return nil, h.part()
		}
		part := map[string]seen{}
		if err := json.Unmarshal(answer, &part); err != nil {
			return nil, fmt.Errorf("understand service %s: %w", who, err)
		}
		for name, s := range part {
			all[name] = s
		}
	}
	return all, nil
}

// written reports whether another service has a recording that is being written. What services say of themselves is a moment old, so
// they are asked.
func (h *Hub) written(ctx context.Context, recording string) (bool, error) {
	if h.shared == nil {
		return false, nil
	}
	question, err := json.Marshal(recording)
	if err != nil {
		return false, fmt.Errorf("ask the other services: %w", err)
	}
	answers := h.shared.AskAll(ctx, askLive, question)
	for _, one := range answers {
		if string(one) == "true" {
			return true, nil
		}
	}
	if all := h.shared.Services(); len(answers) < len(all.List)-1 {
		return false, h.part()
	}
	return false, nil
}

// part returns which part of an answer is missing.
func (h *Hub) part() error {
	all := h.shared.Services()
	return &ErrPart{Taken: max(1, all.Free+all.Reading), Of: all.Partitions}
}
