package delivery_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
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
	tryProcess(t, "node", "node", sender, func(ctx context.Context, arguments ...string) *exec.Cmd {
		return exec.CommandContext(ctx, "node", append([]string{sender}, arguments...)...)
	})
}

// tryProcess tries the delivery of a recorder that runs in its own process. Its first argument is the service's address, its
// second the timeout in seconds; it prints a line when all calls are made, and one with what it has sent.
func tryProcess(t *testing.T, runtime, program, built string, command func(ctx context.Context, arguments ...string) *exec.Cmd) {
	runtimes.Need(t, runtime, program, built)
	tryScripts(t, "were refused", func(t *testing.T, url string, timeout time.Duration, made func()) (did sent) {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		cmd := command(ctx, url, fmt.Sprint(timeout.Seconds()))
		cmd.Stderr = os.Stderr
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		lines := bufio.NewScanner(out)
		require.True(t, lines.Scan(), "it ended before its time, or a call waits for the service")
		require.Equal(t, "made", lines.Text())
		made()
		require.True(t, lines.Scan(), "it ended without saying what it has sent")
		require.NoError(t, json.Unmarshal(lines.Bytes(), &did))
		require.NoError(t, cmd.Wait())
		return did
	})
}
