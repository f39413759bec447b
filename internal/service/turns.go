package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// turns lets questions that take much work be answered one at a time for each who asks, and a few at once in all, so that nobody's questions
// hold up those of others.
type turns struct {
	mu      sync.Mutex
	lines   map[string]*line
	running chan struct{}
}

// line is where the questions of one asker wait.
type line struct {
	first chan struct{} // holds the one whose turn it is
	n     int           // that wait or are being answered
}

// The bounds of waiting.
const (
	turnsAtOnce = 2
	maxInLine   = 64 // questions of one asker
	maxWait     = 20 * time.Second
	busyFor     = 5 // seconds after which to ask again
)

// errBusy says that an asker has too many questions open, or has waited for too long.
var errBusy = errors.New("too many questions of yours that take much work are being answered; ask again in a few seconds")

func newTurns() *turns {
	return &turns{lines: map[string]*line{}, running: make(chan struct{}, turnsAtOnce)}
}

// take waits for a turn. The caller calls done when it is over.
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

// asker returns who asks: a token, or an address where none is wanted.
func (s *service) asker(c *gin.Context) string {
	if s.Tokens {
		if who, err := s.who(c); err == nil {
			return "token " + who.Token
		}
	}
	return "address " + c.ClientIP()
}
