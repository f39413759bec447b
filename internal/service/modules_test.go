package service_test

import (
	"bytes"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestProgram checks that the service hands out the program that it is itself, for its own system.
func TestProgram(t *testing.T) {
	r := start(t, t.TempDir())
	own, err := os.Executable()
	require.NoError(t, err)
	want, err := os.ReadFile(own)
	require.NoError(t, err)
	status, h, got := r.do(http.MethodGet, "/program/"+runtime.GOOS+"-"+runtime.GOARCH, nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "application/octet-stream", h.Get("Content-Type"))
	assert.True(t, bytes.Equal(want, got), "%d bytes of %d", len(got), len(want))
	status, _, said := r.do(http.MethodGet, "/program/plan9-mips", nil)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Contains(t, string(said), runtime.GOOS+"-"+runtime.GOARCH)
}

// TestGoModules checks that an application elsewhere, with an empty module cache and no replace lines, gets the recorder and an
// adapter from the service with the Go command, builds with them, and records.
func TestGoModules(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	folder := t.TempDir()
	pack := exec.Command("go", "run", "../../recorders/pack", "../../recorders/go", filepath.Join(folder, "go"))
	out, err := pack.CombinedOutput()
	require.NoError(t, err, "%s", out)
	r := startWith(t, folder, true) // no token is needed
	var latest struct{ Version string }
	r.json("/go/keenlantern.example/record/@latest", &latest)
	assert.Regexp(t, `^v\d+\.\d+\.\d+-dev\.h[0-9a-f]{12}$`, latest.Version)
	status, h, said := r.do(http.MethodGet, "/go/keenlantern.example/record/uberfx/@v/"+latest.Version+".mod", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "text/plain; charset=utf-8", h.Get("Content-Type"))
	assert.Contains(t, string(said), "keenlantern.example/record "+latest.Version)
	assert.NotContains(t, string(said), "replace")
	for _, path := range []string{"/go/example.org/other/@latest", "/go/keenlantern.example/record/@v/v9.9.9.zip", "/go/../keenlantern.db", "/go/%2e%2e/keenlantern.db", "/go/"} {
		status, _, _ := r.do(http.MethodGet, path, nil)
		assert.NotEqual(t, http.StatusInternalServerError, status, path)
	}

	cache, err := exec.Command("go", "env", "GOMODCACHE", "GOPROXY").Output()
	require.NoError(t, err)
	env := strings.Fields(string(cache))
	app := t.TempDir()
	modules := filepath.Join(app, "modules")
	// A module cache is read-only.
	t.Cleanup(func() { _ = exec.Command("chmod", "-R", "u+w", modules).Run() })
	require.NoError(t, os.WriteFile(filepath.Join(app, "go.mod"), []byte("module example.org/harbour\n\ngo 1.24.0\n"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(app, "main.go"), []byte(`package main

import (
	"context"
	"os"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/uberdig"
)

type lines struct{}

func main() {
	rec, err := record.Start(record.Config{App: "harbour", Output: os.Stdout})
	if err != nil {
		panic(err)
	}
	c := uberdig.Record(rec, dig.New())
	_ = c.Provide(func() *lines { return &lines{} })
	_ = c.Invoke(func(*lines) {})
	_ = rec.Close(context.Background())
}
`), 0o600))
	// The lines that the README gives, in an environment with nothing of this one's: what the Go command uses is in its own file.
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	lines := regexp.MustCompile(`(?m)^   export GOPROXY=.*\n   go get .*$`).FindString(string(readme))
	require.NotEmpty(t, lines)
	home := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(home, "goenv"), []byte("GOPROXY=file://"+filepath.Join(env[0], "cache", "download")+"\nGOSUMDB=off\nGOFLAGS=-modcacherw\nGOMODCACHE="+modules+"\nGOTOOLCHAIN=local\n"), 0o600))
	newcomer := exec.Command("sh", "-e", "-c", strings.NewReplacer("http://127.0.0.1:7460", r.URL, "record/uberfx", "record/uberdig").Replace(lines))
	newcomer.Dir = t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(newcomer.Dir, "go.mod"), []byte("module example.org/newcomer\n\ngo 1.24.0\n"), 0o600))
	newcomer.Env = []string{"PATH=" + os.Getenv("PATH"), "HOME=" + home, "GOENV=" + filepath.Join(home, "goenv")}
	out, err = newcomer.CombinedOutput()
	require.NoError(t, err, "%s\n%s", lines, out)

	run := func(args ...string) string {
		cmd := exec.Command("go", args...)
		cmd.Dir = app
		cmd.Env = append(os.Environ(), "GOWORK=off", "GOFLAGS=-modcacherw", "GOMODCACHE="+modules, "GONOSUMDB=keenlantern.example,go.uber.org",
			"GOPROXY="+r.URL+"/go,file://"+filepath.Join(env[0], "cache", "download")+","+env[1])
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	assert.Contains(t, run("get", "keenlantern.example/record/uberdig", "go.uber.org/dig"), "added keenlantern.example/record/uberdig "+latest.Version)
	assert.Contains(t, run("run", "."), `"service":"main.lines"`)
}
