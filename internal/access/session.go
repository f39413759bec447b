package access

import (
	"context"
	"slices"
	"time"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/store"
)

// A session is what a browser keeps in place of a token: it is random, ends by itself, and can be ended without touching
// the token that it was begun with. Sessions are in memory only, unless services share them: users sign in again after a restart
// after a restart.
type session struct {
	token string // the id of the token it was begun with
	until time.Time
}

// The bounds of sessions.
const (
	SessionFor  = 12 * time.Hour
	maxSessions = 100             // of one token: another one begun ends its oldest
	sharedFor   = 5 * time.Second // that keeping one with others may take
)

// SignIn begins a session for the token with this secret, and returns what the browser keeps; false if there is no such
// token, or it may not read.
func (g *Gate) SignIn(secret string) (value string, who Who, ok bool) {
	who, ok = g.Check(secret)
	if !ok || !who.Kind.May(Read) {
		return "", who, false
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	now := time.Now()
	g.makeRoom(who.Token, now)
	value = "session-" + ids.Random(32)
	s := session{token: who.Token, until: now.Add(SessionFor)}
	if g.shared != nil {
		ctx, cancel := context.WithTimeout(context.Background(), sharedFor)
		defer cancel()
		if g.shared.AddSession(ctx, store.Session{Hash: hash(value), Token: s.token, UntilNS: s.until.UnixNano()}) != nil {
			return "", who, false // it would hold at this service alone
		}
	}
	g.sessions[hash(value)] = s
	return value, who, true
}

// makeRoom drops sessions that have ended, and the oldest ones of a token that has as many as it may. The caller holds mu.
func (g *Gate) makeRoom(token string, now time.Time) {
	var own []string
	for h, s := range g.sessions {
		switch {
		case s.until.Before(now):
			delete(g.sessions, h)
		case s.token == token:
			own = append(own, h)
		}
	}
	slices.SortFunc(own, func(a, b string) int { return g.sessions[a].until.Compare(g.sessions[b].until) })
	for len(own) >= maxSessions {
		delete(g.sessions, own[0])
		own = own[1:]
	}
}

// Session returns whose session a browser shows, false if there is none or it has ended.
func (g *Gate) Session(value string) (Who, bool) {
	g.mu.RLock()
	defer g.mu.RUnlock()
	s, ok := g.sessions[hash(value)]
	if !ok || s.until.Before(time.Now()) {
		return Who{}, false
	}
	for _, t := range g.byHash {
		if t.ID == s.token {
			return Who{t.ID, Kind(t.Kind)}, true
		}
	}
	return Who{}, false
}

// SignOut ends a session.
func (g *Gate) SignOut(value string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if h := hash(value); value != "" {
		if _, ok := g.sessions[h]; ok {
			delete(g.sessions, h)
			g.tell()
			if g.shared != nil {
				ctx, cancel := context.WithTimeout(context.Background(), sharedFor)
				defer cancel()
				_ = g.shared.DropSession(ctx, h) // it ends by itself
			}
		}
	}
}
