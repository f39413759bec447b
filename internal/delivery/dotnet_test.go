package delivery_test

import (
	"context"
	"os/exec"
	"testing"
)

// TestDotnet tries the .NET recorder's delivery with every script.
func TestDotnet(t *testing.T) {
	const sender = "../../recorders/dotnet/test/KeenLantern.Record.Sender/bin/Release/net10.0/KeenLantern.Record.Sender.dll"
	tryProcess(t, "dotnet", "dotnet", sender, func(ctx context.Context, arguments ...string) *exec.Cmd {
		return exec.CommandContext(ctx, "dotnet", append([]string{sender}, arguments...)...)
	})
}
