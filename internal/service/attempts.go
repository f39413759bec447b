package service

import (
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// attempts bounds how often sign-ins from one address may fail: a few at once, and then one now and then.
type attempts struct {
	mu   sync.Mutex
	from *lru.Cache[string, *rate.Limiter]
}

const (
	failuresAtOnce = 5
	failuresEvery  = 10 * time.Second
	maxAddresses   = 10_000
)

func newAttempts() *attempts {
	from, _ := lru.New[string, *rate.Limiter](maxAddresses) // the only error is a size that is not positive
	return &attempts{from: from}
}

// wait returns for how long sign-ins from an address are put off.
func (a *attempts) wait(from string) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	l, ok := a.from.Get(from)
	if !ok || l.Tokens() >= 1 {
		return 0
	}
	return time.Duration((1 - l.Tokens()) * float64(failuresEvery))
}

// failed counts one that failed.
func (a *attempts) failed(from string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	l, ok := a.from.Get(from)
	if !ok {
		l = rate.NewLimiter(rate.Every(failuresEvery), failuresAtOnce)
		a.from.Add(from, l)
	}
	l.Allow()
}

// tooOften says that sign-ins from an address are put off.
type tooOften struct{ seconds int }

// Error says for how long.
func (t *tooOften) Error() string {
	return fmt.Sprintf("too many sign-ins from this address have failed; try again in %d seconds", t.seconds)
}
