package sqlite

import (
	"context"
	"sync"

	"keenlantern.example/internal/store"
)

// leases are those of one process: it holds the folder's lock, so that no other process works on its streams, and no lease is
// ever lost.
type leases struct {
	mu   sync.Mutex
	held map[string]*lease
}

type lease struct {
	of     *leases
	stream string
	lost   chan struct{}
}

// Hold takes the lease of a stream.
func (s *Store) Hold(_ context.Context, stream string) (store.Lease, error) {
	s.leases.mu.Lock()
	defer s.leases.mu.Unlock()
	if s.leases.held[stream] != nil {
		return nil, store.ErrHeld
	}
	l := &lease{&s.leases, stream, make(chan struct{})}
	s.leases.held[stream] = l
	return l, nil
}

func (l *lease) Lost() <-chan struct{} { return l.lost }

func (l *lease) Release() {
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	if l.of.held[l.stream] == l {
		delete(l.of.held, l.stream)
	}
}
