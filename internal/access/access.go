// Package access says who may do what: by tokens, of which the store keeps hashes and not the secrets. It knows
// neither HTTP nor SQL.
package access

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"sync"
	"time"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// Kind is what a token is for.
type Kind string

// The kinds. A manage token may do the rest too; a record token may not read.
const (
	Record Kind = "record"
	Read   Kind = "read"
	Manage Kind = "manage"
)

// May reports whether a token of kind k is enough for what needs need.
func (k Kind) May(need Kind) bool { return k == need || k == Manage }

// Unusable is what is wrong with what was asked for.
type Unusable struct{ Why string }

// Error returns the message.
func (u *Unusable) Error() string { return u.Why }

// The bounds.
const (
	maxTokens = 1000
	maxName   = 200 // bytes
)

// Tokens is where tokens are kept.
type Tokens interface {
	Tokens(ctx context.Context) ([]store.Token, error)
	AddToken(ctx context.Context, t store.Token) error
	DeleteToken(ctx context.Context, id string) error // store.ErrNotFound where there is none
}

// Sessions is where sessions are kept where several services share a store, so that who is signed in is so at all of them.
type Sessions interface {
	Sessions(ctx context.Context) ([]store.Session, error)
	AddSession(ctx context.Context, s store.Session) error
	DropSession(ctx context.Context, hash string) error
}

// Gate knows the tokens. It is safe for use by several goroutines.
type Gate struct {
	store  Tokens
	shared Sessions // nil: sessions are in memory only

	mu       sync.RWMutex
	byHash   map[string]store.Token
	sessions map[string]session // by the hash of what the browser keeps
	changed  chan struct{}      // closed and replaced when a right is withdrawn
}

// Who is the holder of a token, or of a session that was started with one.
type Who struct {
	Token string // its id
	Kind  Kind
}

// New returns a Gate with the tokens that are stored.
func New(ctx context.Context, s Tokens) (*Gate, error) {
	g := &Gate{store: s, byHash: map[string]store.Token{}, sessions: map[string]session{}, changed: make(chan struct{})}
	g.shared, _ = s.(Sessions)
	return g, g.Refresh(ctx)
}

// Refresh reads tokens and sessions again: another service has made or ended some.
func (g *Gate) Refresh(ctx context.Context) error {
	list, err := g.store.Tokens(ctx)
	if err != nil {
		return err
	}
	var sessions []store.Session
	if g.shared != nil {
		if sessions, err = g.shared.Sessions(ctx); err != nil {
			return err
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	clear(g.byHash)
	there := map[string]bool{}
	for _, t := range list {
		g.byHash[t.Hash] = t
		there[t.ID] = true
	}
	if g.shared != nil {
		clear(g.sessions)
		for _, s := range sessions {
			g.sessions[s.Hash] = session{token: s.Token, until: time.Unix(0, s.UntilNS)}
		}
	}
	for hash, s := range g.sessions {
		if !there[s.token] {
			delete(g.sessions, hash)
		}
	}
	g.tell()
	return nil
}

// Any reports whether there is a token at all.
func (g *Gate) Any() bool {
	g.mu.RLock()
	defer g.mu.RUnlock()
	return len(g.byHash) > 0
}

// hash is what is kept of a secret. Secrets are random and long, so that one round is enough.
func hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Create makes a token and returns it with its secret, which is shown only now.
func (g *Gate) Create(ctx context.Context, kind Kind, name string) (views.NewToken, error) {
	switch {
	case kind != Record && kind != Read && kind != Manage:
		return views.NewToken{}, &Unusable{fmt.Sprintf("a token's kind is record, read or manage, not %q", kind)}
	case len(name) > maxName:
		return views.NewToken{}, &Unusable{fmt.Sprintf("a token's name has at most %d bytes", maxName)}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.byHash) >= maxTokens {
		return views.NewToken{}, &Unusable{fmt.Sprintf("there are %d tokens already; revoke some first", maxTokens)}
	}
	secret := "lantern-" + string(kind) + "-" + ids.Random(32)
	t := store.Token{ID: ids.Random(5), Name: name, Kind: string(kind), Hash: hash(secret), CreatedNS: time.Now().UnixNano()}
	if err := g.store.AddToken(ctx, t); err != nil {
		return views.NewToken{}, err
	}
	g.byHash[t.Hash] = t
	return views.NewToken{Token: view(t), Secret: secret}, nil
}

func view(t store.Token) views.Token {
	return views.Token{ID: t.ID, Name: t.Name, Kind: t.Kind, Created: time.Unix(0, t.CreatedNS).UTC().Format(time.RFC3339)}
}

// List returns all tokens, the oldest first.
func (g *Gate) List(ctx context.Context) ([]views.Token, error) {
	list, err := g.store.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	out := []views.Token{}
	for _, t := range list {
		out = append(out, view(t))
	}
	return out, nil
}

// Revoke ends a token; requests with it are refused from now on.
func (g *Gate) Revoke(ctx context.Context, id string) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if err := g.store.DeleteToken(ctx, id); err != nil {
		return err
	}
	for hash, t := range g.byHash {
		if t.ID == id {
			delete(g.byHash, hash)
		}
	}
	for hash, s := range g.sessions {
		if s.token == id {
			delete(g.sessions, hash)
		}
	}
	g.tell()
	return nil
}

// tell wakes those who wait for Changed. The caller holds mu.
func (g *Gate) tell() {
	close(g.changed)
	g.changed = make(chan struct{})
}

// Changed returns a channel that is closed when a token has been revoked or a session has ended since the call.
func (g *Gate) Changed() <-chan struct{} {
	g.mu.RLock()
	defer g.mu.RUnlock()
	return g.changed
}

// Check returns whose token has this secret, false if there is none. It compares hashes only, so that how long it takes
// says nothing of secrets.
func (g *Gate) Check(secret string) (Who, bool) {
	if !strings.HasPrefix(secret, "lantern-") {
		return Who{}, false
	}
	g.mu.RLock()
	defer g.mu.RUnlock()
	t, ok := g.byHash[hash(secret)]
	return Who{t.ID, Kind(t.Kind)}, ok
}
