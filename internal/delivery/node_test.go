package delivery_test

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/conform"
	"keenlantern.example/internal/delivery"
)

// TestNode tries the Node recorder's delivery with every script.
func TestNode(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	const sender = "../../recorders/node/dist/test/sender.js"
	if _, err := os.Stat(sender); err != nil {
		if os.Getenv("KEENLANTERN_RUNTIMES") == "required" {
			t.Fatal("the Node recorder has not been built; 'make recorders' builds it")
		}
		t.Skip("the Node recorder has not been built; 'make recorders' builds it")
	}
	for name, script := range delivery.Scripts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := &delivery.Service{Script: script, Stall: 5 * time.Second}
			server := httptest.NewServer(s)
			defer server.Close()
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			cmd := exec.CommandContext(ctx, "node", sender, server.URL)
			cmd.Stderr = os.Stderr
			out, err := cmd.Output()
			require.NoError(t, err)
			var did struct {
				Events, Lost int
				Waited       float64 // ms
				Error        string
			}
			require.NoError(t, json.Unmarshal(out, &did))
			v := s.Verdict()
			assert.Empty(t, v.Wrong)
			assert.Less(t, did.Waited, 400.0, "no call waits for the service")
			if slices.Contains(script, delivery.Refuse) {
				assert.Contains(t, did.Error, "were refused")
				return
			}
			assert.Empty(t, did.Error)
			assert.Len(t, v.Lines, did.Events, "all that was kept, once")
			assert.Zero(t, did.Lost)
			told, err := conform.Check(bytes.NewReader(bytes.Join(v.Lines, []byte{'\n'})))
			require.NoError(t, err)
			assert.True(t, told.Conforms, "%v", told.Problems)
			assert.GreaterOrEqual(t, v.Requests, len(script))
		})
	}
}
