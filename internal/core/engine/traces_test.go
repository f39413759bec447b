package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// storedTraces are the traces of testdata and those of the rules' archives, by where they stand.
func storedTraces(t *testing.T) map[string]string {
	traces := map[string]string{}
	files, err := filepath.Glob("../../../testdata/traces/*.ndjson")
	require.NoError(t, err)
	for _, file := range append(files, "../../../testdata/harbour.ndjson", "../../../testdata/office.ndjson") {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		traces[file] = string(text)
	}
	archives, err := filepath.Glob("../rules/testdata/*/*.txtar")
	require.NoError(t, err)
	for _, file := range archives {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		for _, f := range archive.Files {
			if strings.HasSuffix(f.Name, ".ndjson") {
				traces[file+"/"+f.Name] = string(f.Data)
			}
		}
	}
	return traces
}
