package sqlite

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"keenlantern.example/internal/store"
)

// appends has batches that come at the same time synced together: each is on disk before it is answered, and one sync takes
// about as long for several as for one. The first one works for those that have come until then; the first of those
// that come meanwhile is next.
type appends struct {
	mu      sync.Mutex
	waiting []*appending
	busy    bool
}

// appending is a batch that waits to be stored.
type appending struct {
	ctx        context.Context
	stream     int64
	batch      store.Batch
	packed     []byte
	receivedNS int64
	lead       chan struct{} // it is its turn to work for all that wait
	done       chan error
}

// The bounds of what goes into one transaction.
const (
	maxAppends     = 32
	maxAppendBytes = 16 << 20 // packed
)

// AppendBatch stores b as the next batch of a stream. It is on disk when AppendBatch returns. ErrNotFound says that the
// stream has been deleted.
func (s *Store) AppendBatch(ctx context.Context, stream int64, b store.Batch, receivedNS int64) error {
	if err := ctx.Err(); err != nil {
		return fmt.Errorf("store batch %d: %w", b.N, err)
	}
	packed, free := s.pack(b)
	defer free()
	a := &appending{ctx, stream, b, packed, receivedNS, make(chan struct{}, 1), make(chan error, 1)}
	if s.appends.first(a) {
		s.appendTogether()
	}
	for {
		select {
		case err := <-a.done:
			return err
		case <-a.lead:
			s.appendTogether()
		}
	}
}

// first has a wait, and reports whether nothing is running.
func (q *appends) first(a *appending) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.waiting = append(q.waiting, a)
	first := !q.busy
	q.busy = true
	return first
}

// next takes those that go together.
func (q *appends) next() (list []*appending) {
	q.mu.Lock()
	defer q.mu.Unlock()
	n, bytes := 0, 0
	for n < len(q.waiting) && n < maxAppends && (n == 0 || bytes+len(q.waiting[n].packed) <= maxAppendBytes) {
		bytes += len(q.waiting[n].packed)
		n++
	}
	list = q.waiting[:n:n]
	q.waiting = q.waiting[n:]
	return list
}

// pass hands the work on to the first that waits.
func (q *appends) pass() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if q.busy = len(q.waiting) > 0; q.busy {
		q.waiting[0].lead <- struct{}{}
	}
}

// appendTogether stores what waits, in one transaction, and answers.
func (s *Store) appendTogether() {
	defer s.appends.pass()
	list := s.appends.next()
	answers := make([]error, len(list))
	// A caller that gives up does not give up another caller's batch.
	err := s.update(context.WithoutCancel(list[0].ctx), func(q querier) error {
		for n, a := range list {
			if answers[n] = s.store(q, a); answers[n] != nil && !untouched(answers[n]) {
				return answers[n]
			}
		}
		return nil
	})
	if err == nil {
		for n := len(list) - 1; n >= 0; n-- {
			if answers[n] == nil {
				s.mark(list[n].stream, list[n].batch.N)
				break
			}
		}
	}
	for n, a := range list {
		switch {
		case err == nil:
		case len(list) == 1:
			answers[n] = err
		default: // one of them may have been the reason: each by itself
			answers[n] = s.update(a.ctx, func(q querier) error { return s.store(q, a) })
		}
		a.done <- answers[n]
	}
}

func (s *Store) store(q querier, a *appending) error {
	if err := a.ctx.Err(); err != nil {
		return fmt.Errorf("store batch %d: %w", a.batch.N, err)
	}
	return s.appendBatch(context.WithoutCancel(a.ctx), q, a.stream, a.batch, a.packed, a.receivedNS)
}

// untouched reports whether a batch that could not be stored has changed nothing.
func untouched(err error) bool {
	return errors.Is(err, store.ErrNotNext) || errors.Is(err, store.ErrNotFound) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}
