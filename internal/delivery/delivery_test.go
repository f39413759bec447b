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

// TestGo tries the Go recorder's delivery with every script.
func TestGo(t *testing.T) {
	for name, script := range delivery.Scripts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &delivery.Service{Script: script, Stall: 5 * time.Second}
			server := httptest.NewServer(s)
			defer server.Close()
			rec, err := record.Start(record.Config{
				App: "harbour", Service: server.URL, Alone: true, FlushWait: time.Millisecond, BatchSize: 2 << 10,
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
			err = rec.Close(ctx)
			v := s.Verdict()
			assert.Empty(t, v.Wrong)
			assert.Less(t, waited, 400*time.Millisecond, "no call waits for the service")
			if slices.Contains(script, delivery.Refuse) {
				assert.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.EqualValues(t, rec.Totals().Events, len(v.Lines), "all that was kept, once")
			assert.Zero(t, rec.Totals().Lost)
			told, err := conform.Check(bytes.NewReader(bytes.Join(v.Lines, []byte{'\n'})))
			require.NoError(t, err)
			assert.True(t, told.Conforms, "%v", told.Problems)
			assert.GreaterOrEqual(t, v.Requests, len(script))
		})
	}
}
