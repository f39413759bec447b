package record

import (
	"context"
	"time"
)

type carried struct {
	rec   *Recorder
	scope ScopeID
}

type carriedKey struct{}

// In returns a context in which work runs that r records, in a scope. Call and ScopeOf use it.
func (r *Recorder) In(ctx context.Context, scope ScopeID) context.Context {
	if r == nil {
		return ctx
	}
	return context.WithValue(ctx, carriedKey{}, carried{r, scope})
}

// ScopeOf returns the scope that ctx carries, 0 (the root) if none.
func ScopeOf(ctx context.Context) ScopeID {
	c, _ := ctx.Value(carriedKey{}).(carried)
	return c.scope
}

// Call notes a call of what by, both pointers that the recorder knows, in the scope that ctx carries. The returned
// function ends it:
//
//	defer record.Call(ctx, roster.tides, roster)()
//
// Where ctx carries no recorder, or it does not know what, nothing is recorded.
func Call(ctx context.Context, what, by any) (done func()) {
	c, _ := ctx.Value(carriedKey{}).(carried)
	inst := c.rec.Of(what)
	if inst == 0 {
		return func() {}
	}
	user, began := c.rec.Of(by), time.Now()
	return func() { c.rec.Use(inst, user, c.scope, time.Since(began)) }
}
