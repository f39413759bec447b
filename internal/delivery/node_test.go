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
	const sender = "../../recorders/node/dist/test/sender.js"
	tryProcess(t, "the Node recorder", sender, func(ctx context.Context, url string) *exec.Cmd {
		return exec.CommandContext(ctx, "node", sender, url)
	})
}

// tryProcess tries the delivery of a recorder that runs in a process of its own, and prints what it has sent.
func tryProcess(t *testing.T, what, built string, sender func(ctx context.Context, url string) *exec.Cmd) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	if _, err := os.Stat(built); err != nil {
		if os.Getenv("KEENLANTERN_RUNTIMES") == "required" {
			t.Fatal(what + " has not been built; 'make recorders' builds it")
		}
		t.Skip(what + " has not been built; 'make recorders' builds it")
	}
	tryScripts(t, "were refused", func(t *testing.T, url string) (did sent) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := sender(ctx, url)
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(out, &did))
		return did
	})
}
