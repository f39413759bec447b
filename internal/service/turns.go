package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// turns schedules expensive requests: one at a time for each asker, and a few concurrently in all, so that one asker does not delay the others.
type turns struct {
	mu      sync.Mutex
	lines   map[string]*line
	running chan struct{}
}

// line is the queue of one asker.
type line struct {
	first chan struct{} // a slot for the request at its head
	n     int           // requests that wait or run
}

// The bounds of waiting.
const (
	turnsAtOnce = 2  // of contracts, drafts and comparisons
	playsAtOnce = 1  // of recordings, which take longer and must not take the others' turns
	maxInLine   = 64 // requests of one asker
	maxWait     = 20 * time.Second
	busyFor     = 5 // seconds, for Retry-After
)

// errBusy is returned when an asker has too many expensive requests open, or has waited too long.
var errBusy = errors.New("too many of your expensive requests are in progress; retry in a few seconds")

func newTurns(atOnce int) *turns {
	return &turns{lines: map[string]*line{}, running: make(chan struct{}, atOnce)}
}

// take waits for a turn. The caller must call done afterwards.
func (t *turns) take(ctx context.Context, asker string) (done func(), err error) {
	t.mu.Lock()
	l := t.lines[asker]
	if l == nil {
		l = &line{first: make(chan struct{}, 1)}
		t.lines[asker] = l
	}
	if l.n == maxInLine {
		t.mu.Unlock()
		return nil, errBusy
	}
	l.n++
	t.mu.Unlock()
	leave := func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if l.n--; l.n == 0 {
			delete(t.lines, asker)
		}
	}
	late := time.NewTimer(maxWait)
	defer late.Stop()
	wait := func(place chan struct{}) error {
		select {
		case place <- struct{}{}:
			return nil
		case <-late.C:
			return errBusy
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	if err := wait(l.first); err != nil {
		leave()
		return nil, err
	}
	if err := wait(t.running); err != nil {
		<-l.first
		leave()
		return nil, err
	}
	return func() {
		<-t.running
		<-l.first
		leave()
	}, nil
}

// asker returns the token of a request, or its address if tokens are not required.
func (s *service) asker(c *gin.Context) string {
	if s.Tokens {
		if who, err := s.who(c); err == nil {
			return "token " + who.Token
		}
	}
	return "address " + c.ClientIP()
}
