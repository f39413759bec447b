package delivery_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
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
	tryScripts(t, "were refused", func(t *testing.T, url string) (did sent) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, "node", sender, url)
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(out, &did))
		return did
	})
}
