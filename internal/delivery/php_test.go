package delivery_test

import (
	"context"
	"os/exec"
	"testing"
)

// TestPHP tries the delivery of PHP's recorder, in a process that stays, with every script.
func TestPHP(t *testing.T) {
	const tests = "../../recorders/php/tests/"
	tryProcess(t, "php", "php", tests+"sender.php", func(ctx context.Context, arguments ...string) *exec.Cmd {
		return exec.CommandContext(ctx, "php", append([]string{tests + "sender.php"}, arguments...)...)
	})
}
