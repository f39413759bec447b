package cli_test

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/cli"
)

// TestExportOfDamage checks that an export with a batch missing is kept, and that its exit status reports it.
func TestExportOfDamage(t *testing.T) {
	const trace = `{"ev":"gap","t":1,"lost":3}` + "\n"
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/x-ndjson")
		w.Header().Set("Trailer", "Keenlantern-Damaged-Batches")
		_, _ = io.WriteString(w, trace)
		w.Header().Set("Keenlantern-Damaged-Batches", "1")
	}))
	defer s.Close()
	path := filepath.Join(t.TempDir(), "trace.ndjson")
	var out, trouble bytes.Buffer
	code := cli.Main(t.Context(), cli.IO{Out: &out, Err: &trouble, Env: func(string) string { return "" }}, []string{"export", "latest", path, "--server", s.URL})
	assert.Equal(t, cli.Unreadable, code)
	assert.Contains(t, trouble.String(), "1 batch could not be read")
	assert.Equal(t, "wrote "+path+"\n", out.String())
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, trace, string(text))
}
