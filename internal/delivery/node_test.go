package delivery_test

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/runtimes"
)

// TestNode tries the Node recorder's delivery with every script.
func TestNode(t *testing.T) {
	const sender = "../../recorders/node/dist/test/sender.js"
	tryProcess(t, "node", "node", sender, func(ctx context.Context, url string) *exec.Cmd {
		return exec.CommandContext(ctx, "node", sender, url)
	})
}

// tryProcess tries the delivery of a recorder that runs in a process of its own, and prints what it has sent.
func tryProcess(t *testing.T, runtime, program, built string, sender func(ctx context.Context, url string) *exec.Cmd) {
	runtimes.Need(t, runtime, program, built)
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
