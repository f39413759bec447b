package service_test

import (
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNodePackage holds that an application elsewhere gets the Node recorder from the service with npm, imports and requires it, and
// records.
func TestNodePackage(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	const built = "../../recorders/node"
	if _, err := os.Stat(built + "/dist/esm/index.js"); err != nil {
		if os.Getenv("KEENLANTERN_RUNTIMES") == "required" {
			t.Fatal("the Node recorder has not been built; 'make recorders' builds it")
		}
		t.Skip("the Node recorder has not been built; 'make recorders' builds it")
	}
	folder := t.TempDir()
	out, err := exec.Command("node", built+"/scripts/pack.mjs", "dev", filepath.Join(folder, "node")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	r := startWith(t, folder, true) // no token is needed
	app := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(app, "package.json"), []byte(`{"name":"harbour","private":true}`), 0o600))
	run := func(name string, args ...string) string {
		cmd := exec.Command(name, args...)
		cmd.Dir = app
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	run("npm", "install", "--silent", "--no-audit", "--no-fund", "--omit=optional", r.URL+"/recorders/node/keenlantern-record.tgz")
	for file, text := range map[string]string{
		"app.mjs": `import { Recorder } from 'keenlantern-record'; import { serve } from 'keenlantern-record/http'; go(Recorder, serve)`,
		"app.cjs": `const { Recorder } = require('keenlantern-record'); const { serve } = require('keenlantern-record/http'); go(Recorder, serve)`,
	} {
		text += `
			function go(Recorder, serve) {
				const recorder = new Recorder({ app: 'harbour', output: process.stdout })
				recorder.close(recorder.open({ kind: 'job', name: typeof serve }))
			}`
		require.NoError(t, os.WriteFile(filepath.Join(app, file), []byte(text), 0o600))
		assert.Contains(t, run("node", file), `"name":"function"`)
	}
	for _, path := range []string{"/recorders/node/other.tgz", "/recorders/node/..%2f..%2fkeenlantern.db", "/recorders/perl/keenlantern-record.tgz"} {
		status, _, _ := r.do(http.MethodGet, path, nil)
		assert.Equal(t, http.StatusNotFound, status, path)
	}
	status, h, _ := r.do(http.MethodGet, "/recorders/node/keenlantern-record.tgz", nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Equal(t, "application/gzip", h.Get("Content-Type"))
	assert.Equal(t, "no-cache", h.Get("Cache-Control"))

	versioned, err := filepath.Glob(filepath.Join(folder, "node", "keenlantern-record-*.tgz"))
	require.NoError(t, err)
	require.Len(t, versioned, 1)
	status, h, _ = r.do(http.MethodGet, "/recorders/node/"+filepath.Base(versioned[0]), nil)
	assert.Equal(t, http.StatusOK, status)
	assert.Empty(t, h.Get("Cache-Control"))
}
