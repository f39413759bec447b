package jetstream

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"keenlantern.example/internal/store"
)

// Watch has f called when an "order", "token", "session" or "contract" has changed, by whomever.
func (s *Store) Watch(kind string, f func()) { s.watch(kind+".", func(string) { f() }) }

// SetOrder stores what the recorders of an application shall do, as JSON.
func (s *Store) SetOrder(ctx context.Context, app string, body []byte) error {
	ctx, cancel := within(ctx)
	defer cancel()
	if _, err := s.catalog.put(ctx, keyOrder+named(app), body, nil); err != nil {
		return fmt.Errorf("store the order for %s: %w", app, err)
	}
	return nil
}

// Orders returns all that are stored, by application.
func (s *Store) Orders(ctx context.Context) (map[string][]byte, error) {
	list := map[string][]byte{}
	s.catalog.each(keyOrder, func(key string, r row) { list[unnamed(strings.TrimPrefix(key, keyOrder))] = r.value })
	return list, ctx.Err()
}

// AddToken stores a token.
func (s *Store) AddToken(ctx context.Context, t store.Token) error {
	ctx, cancel := within(ctx)
	defer cancel()
	if _, err := s.catalog.create(ctx, keyToken+t.ID, pack(t), nil); err != nil {
		return fmt.Errorf("store a token: %w", err)
	}
	return nil
}

// Tokens returns all of them, the oldest first.
func (s *Store) Tokens(ctx context.Context) ([]store.Token, error) {
	var list []store.Token
	s.catalog.each(keyToken, func(_ string, r row) {
		var t store.Token
		if json.Unmarshal(r.value, &t) == nil {
			list = append(list, t)
		}
	})
	slices.SortFunc(list, func(a, b store.Token) int {
		return cmp.Or(cmp.Compare(a.CreatedNS, b.CreatedNS), cmp.Compare(a.ID, b.ID))
	})
	return list, ctx.Err()
}

// DeleteToken removes a token; store.ErrNotFound says that there is none of this id.
func (s *Store) DeleteToken(ctx context.Context, id string) error {
	ctx, cancel := within(ctx)
	defer cancel()
	if _, ok := s.catalog.get(keyToken + id); !ok {
		return store.ErrNotFound
	}
	if err := s.catalog.drop(ctx, keyToken+id, 0); err != nil {
		return fmt.Errorf("revoke token %s: %w", id, err)
	}
	return nil
}

// Sessions returns who is signed in.
func (s *Store) Sessions(ctx context.Context) ([]store.Session, error) {
	var list []store.Session
	s.catalog.each(keySession, func(_ string, r row) {
		var one store.Session
		if json.Unmarshal(r.value, &one) == nil {
			list = append(list, one)
		}
	})
	return list, ctx.Err()
}

// AddSession keeps a session.
func (s *Store) AddSession(ctx context.Context, one store.Session) error {
	_, err := s.catalog.put(ctx, keySession+one.Hash, pack(one), nil)
	return err
}

// DropSession ends one, if it is there.
func (s *Store) DropSession(ctx context.Context, hash string) error {
	return s.catalog.drop(ctx, keySession+hash, 0)
}

// dropOldSessions removes those that have ended.
func (s *Store) dropOldSessions(ctx context.Context) {
	list, _ := s.Sessions(ctx) // it fails only where ctx has ended
	for _, one := range list {
		if one.UntilNS < s.cfg.Now().UnixNano() {
			_ = s.DropSession(ctx, one.Hash) // it is tried again
		}
	}
}

// contractRow is what was agreed on for an application.
type contractRow struct {
	Body  []byte `json:"body"`
	PutNS int64  `json:"put_ns"`
}

// SetContract stores the contract of an application, in place of what was.
func (s *Store) SetContract(ctx context.Context, c store.Contract) error {
	ctx, cancel := within(ctx)
	defer cancel()
	if _, err := s.catalog.put(ctx, keyContract+named(c.App), pack(&contractRow{c.Body, c.Put.UnixNano()}), nil); err != nil {
		return fmt.Errorf("store the contract of %s: %w", c.App, err)
	}
	return nil
}

// Contract returns it, store.ErrNotFound where there is none.
func (s *Store) Contract(ctx context.Context, app string) (store.Contract, error) {
	c := store.Contract{App: app}
	r, ok := s.catalog.get(keyContract + named(app))
	if !ok {
		return c, cmp.Or(ctx.Err(), fmt.Errorf("no contract is held for %s: %w", app, store.ErrNotFound))
	}
	var held contractRow
	if err := json.Unmarshal(r.value, &held); err != nil {
		return c, fmt.Errorf("read the contract of %s: %w (%w)", app, store.ErrDamaged, err)
	}
	c.Body, c.Put = held.Body, time.Unix(0, held.PutNS)
	return c, ctx.Err()
}

// DropContract deletes it, store.ErrNotFound where there is none.
func (s *Store) DropContract(ctx context.Context, app string) error {
	ctx, cancel := within(ctx)
	defer cancel()
	if _, ok := s.catalog.get(keyContract + named(app)); !ok {
		return fmt.Errorf("no contract is held for %s: %w", app, store.ErrNotFound)
	}
	if err := s.catalog.drop(ctx, keyContract+named(app), 0); err != nil && !errors.Is(err, store.ErrNotFound) {
		return fmt.Errorf("delete the contract of %s: %w", app, err)
	}
	return nil
}
