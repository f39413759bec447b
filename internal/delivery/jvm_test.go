package delivery_test

import (
	"context"
	"os"
	"os/exec"
	"testing"
)

// TestJVM tries the JVM recorder's delivery with every script.
func TestJVM(t *testing.T) {
	const core = "../../recorders/jvm/core/target"
	tryProcess(t, "jvm", "java", core+"/test-classes/example/keenlantern/record/Sender.class", func(ctx context.Context, arguments ...string) *exec.Cmd {
		classes := core + "/classes" + string(os.PathListSeparator) + core + "/test-classes"
		return exec.CommandContext(ctx, "java", append([]string{"-cp", classes, "example.keenlantern.record.Sender"}, arguments...)...)
	})
}
