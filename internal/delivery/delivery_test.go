package delivery_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/delivery"
	"keenlantern.example/record"
)

// sent is what a recorder told of itself once it had sent what it kept.
type sent struct {
	Events, Lost int
	Waited       float64 // ms, the longest that a call of the application took
	Error        string  // "" when everything was delivered
}

// tryScripts has a recorder deliver to a service that follows each script,
// and compares what arrived with what the recorder says of itself. refused is
// a part of the error that a refused delivery gives.
func tryScripts(t *testing.T, refused string, send func(t *testing.T, url string) sent) {
	for name, script := range delivery.Scripts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &delivery.Service{Script: script, Stall: 5 * time.Second}
			server := httptest.NewServer(s)
			defer server.Close()
			did := send(t, server.URL)
			v := s.Verdict()
			assert.Empty(t, v.Wrong)
			assert.Less(t, did.Waited, 400.0, "no call waits for the service")
			if slices.Contains(script, delivery.Refuse) {
				require.NotEmpty(t, did.Error)
				assert.Contains(t, did.Error, refused)
				return
			}
			require.Empty(t, did.Error)
			assert.Len(t, v.Lines, did.Events, "all that was kept, once")
			assert.Zero(t, did.Lost)
			told, err := conform.Check(bytes.NewReader(bytes.Join(v.Lines, []byte{'\n'})))
			require.NoError(t, err)
			assert.True(t, told.Conforms, "%v", told.Problems)
			assert.GreaterOrEqual(t, v.Requests, len(script))
		})
	}
}

// TestGo tries the Go recorder's delivery with every script.
func TestGo(t *testing.T) {
	tryScripts(t, "refused", func(t *testing.T, url string) sent {
		rec, err := record.Start(record.Config{
			App: "harbour", Service: url, Alone: true, FlushWait: time.Millisecond, BatchSize: 2 << 10,
			Client: &http.Client{Timeout: time.Second},
		})
		require.NoError(t, err)
		reg := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
		waited := time.Duration(0)
		for n := range 300 {
			began := time.Now()
			scope := rec.Open(record.Scope{Kind: "request", Name: fmt.Sprint("GET /tides/", n%7)})
			rec.Make(record.Making{Reg: reg, Scope: scope})
			rec.CloseScope(scope)
			waited = max(waited, time.Since(began))
			if n%20 == 0 {
				time.Sleep(2 * time.Millisecond) // for several batches
			}
		}
		ctx, cancel := context.WithTimeout(context.Background(), 40*time.Second)
		defer cancel()
		did := sent{Waited: float64(waited) / float64(time.Millisecond)}
		if err := rec.Close(ctx); err != nil {
			did.Error = err.Error()
		}
		did.Events, did.Lost = int(rec.Totals().Events), int(rec.Totals().Lost)
		return did
	})
}
