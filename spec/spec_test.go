package spec_test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestGenerated checks that nothing that is generated is behind the table.
func TestGenerated(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	out, err := exec.Command("go", "run", "./generate", "-check").CombinedOutput()
	assert.NoError(t, err, "%s", out)
}
