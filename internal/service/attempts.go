package service

import (
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// attempts limits failed sign-ins by token prefix and address, and less strictly by address, which many people may share.
type attempts struct {
	mu    sync.Mutex
	token *lru.Cache[string, *rate.Limiter] // by address and the token's first letters
	from  *lru.Cache[string, *rate.Limiter] // by address
}

const (
	failuresAtOnce        = 5
	failuresEvery         = 10 * time.Second
	addressFailuresAtOnce = 100
	addressFailuresEvery  = time.Second
	maxAddresses          = 10_000
	tokenPrefix           = 20 // letters; the first ones name the kind
)

func newAttempts() *attempts {
	token, _ := lru.New[string, *rate.Limiter](maxAddresses) // the only error is a size that is not positive
	from, _ := lru.New[string, *rate.Limiter](maxAddresses)
	return &attempts{token: token, from: from}
}

func ofToken(from, secret string) string {
	return from + "\x00" + secret[:min(len(secret), tokenPrefix)]
}

// wait returns how long sign-ins with a token from an address are throttled.
func (a *attempts) wait(from, secret string) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	return max(left(a.token, ofToken(from, secret), failuresEvery), left(a.from, from, addressFailuresEvery))
}

func left(of *lru.Cache[string, *rate.Limiter], key string, every time.Duration) time.Duration {
	l, ok := of.Get(key)
	if !ok || l.Tokens() >= 1 {
		return 0
	}
	return time.Duration((1 - l.Tokens()) * float64(every))
}

// failed counts one that failed.
func (a *attempts) failed(from, secret string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	count(a.token, ofToken(from, secret), failuresEvery, failuresAtOnce)
	count(a.from, from, addressFailuresEvery, addressFailuresAtOnce)
}

func count(of *lru.Cache[string, *rate.Limiter], key string, every time.Duration, atOnce int) {
	l, ok := of.Get(key)
	if !ok {
		l = rate.NewLimiter(rate.Every(every), atOnce)
		of.Add(key, l)
	}
	l.Allow()
}

// tooOften is returned while sign-ins from an address are throttled.
type tooOften struct{ seconds int }

// Error returns how long to wait.
func (t *tooOften) Error() string {
	return fmt.Sprintf("too many sign-ins from this address have failed; try again in %d seconds", t.seconds)
}
