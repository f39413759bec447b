package delivery_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/delivery"
	"keenlantern.example/record"
)

// sent is a recorder's state once it had sent what it kept.
type sent struct {
	Events, Lost int
	Error        string // "" when everything was delivered
}

// timeout is how long a recorder waits for an answer where a script is followed: so long that a busy machine is no second trouble.
const timeout = 3 * time.Second

// sender records three hundred scopes and delivers them to the service at url, which has to take a batch within timeout. It calls
// made when the application has made all its calls.
type sender func(t *testing.T, url string, timeout time.Duration, made func()) sent

// tryScripts has a recorder deliver to a service that follows each script, and compares what arrived with what the recorder says of
// itself. refused is a part of the error that a refused delivery gives.
func tryScripts(t *testing.T, refused string, send sender) {
	for name, script := range delivery.Scripts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &delivery.Service{Script: script, Stall: 2 * timeout}
			server := httptest.NewServer(s)
			defer server.Close()
			did := send(t, server.URL, timeout, func() {})
			v := s.Verdict()
			if slices.Contains(script, delivery.Refuse) {
				assert.Empty(t, v.Wrong)
				require.NotEmpty(t, did.Error)
				assert.Contains(t, did.Error, refused)
				return
			}
			allArrived(t, did, v)
			assert.GreaterOrEqual(t, v.Requests, len(script))
		})
	}
	// No call waits for the service: it takes nothing before all calls are made, so that one that waited would never return.
	for _, meanwhile := range []delivery.Step{
		delivery.Stall, delivery.Busy, delivery.Unavailable, delivery.Fault, delivery.Reset, delivery.Redirect, delivery.Garbage, delivery.Other,
	} {
		t.Run(string(meanwhile)+", before all calls are made", func(t *testing.T) {
			t.Parallel()
			until := make(chan struct{})
			s := &delivery.Service{Meanwhile: meanwhile, Until: until}
			server := httptest.NewServer(s)
			defer server.Close()
			did := send(t, server.URL, time.Hour, sync.OnceFunc(func() { close(until) }))
			allArrived(t, did, s.Verdict())
		})
	}
}

// allArrived compares what a recorder says of itself with what arrived.
func allArrived(t *testing.T, did sent, v delivery.Verdict) {
	t.Helper()
	assert.Empty(t, v.Wrong)
	require.Empty(t, did.Error)
	assert.Len(t, v.Lines, did.Events, "all that was kept, once")
	assert.Zero(t, did.Lost)
	told, err := conform.Check(bytes.NewReader(bytes.Join(v.Lines, []byte{'\n'})))
	require.NoError(t, err)
	assert.True(t, told.Conforms, "%v", told.Problems)
}

// TestGo tries the Go recorder's delivery with every script.
func TestGo(t *testing.T) {
	tryScripts(t, "refused", func(t *testing.T, url string, timeout time.Duration, made func()) sent {
		rec, err := record.Start(record.Config{
			App: "harbour", Service: url, Alone: true, FlushWait: time.Millisecond, BatchSize: 2 << 10,
			Client: &http.Client{Timeout: timeout},
		})
		require.NoError(t, err)
		reg := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
		for n := range 300 {
			scope := rec.Open(record.Scope{Kind: "request", Name: fmt.Sprint("GET /tides/", n%7)})
			rec.Make(record.Making{Reg: reg, Scope: scope})
			rec.CloseScope(scope)
			if n%20 == 0 {
				time.Sleep(2 * time.Millisecond) // for several batches
			}
		}
		made()
		ctx, cancel := context.WithTimeout(context.Background(), 40*time.Second)
		defer cancel()
		did := sent{}
		if err := rec.Close(ctx); err != nil {
			did.Error = err.Error()
		}
		did.Events, did.Lost = int(rec.Totals().Events), int(rec.Totals().Lost)
		return did
	})
}
