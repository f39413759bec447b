package notices_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/notices"
)

// TestAllAreNamed holds that the notices name every module of the program and every package of the console in its version.
func TestAllAreNamed(t *testing.T) {
	cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}{{end}}{{end}}", "./cmd/keenlantern")
	cmd.Dir = "../.."
	said, err := cmd.Output()
	require.NoError(t, err)
	n := 0
	for line := range strings.Lines(string(said)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "keenlantern.example") {
			n++
			assert.Contains(t, notices.Text, "\n"+line+"\n", "run 'go generate ./internal/notices'")
		}
	}
	assert.Greater(t, n, 100)
	text, err := os.ReadFile("../../console/package-lock.json")
	require.NoError(t, err)
	var lock struct {
		Packages map[string]struct {
			Version       string
			Dev, Optional bool
		}
	}
	require.NoError(t, json.Unmarshal(text, &lock))
	for path, p := range lock.Packages {
		if path != "" && !p.Dev && !p.Optional {
			name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
			assert.Contains(t, notices.Text, "\n"+name+" "+p.Version+"\n", "run 'go generate ./internal/notices'")
		}
	}
}
