package offices_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/follow"
)

// followed runs an office that records into a folder, follows the folder, and returns the stream that came of it and how many
// lines it has.
func followed(ctx context.Context, t *testing.T, run []string, mistake, requests string, to follow.Sender) (stream string, lines int64) {
	t.Helper()
	folder := t.TempDir()
	cmd := exec.CommandContext(ctx, run[0], append(slices.Clone(run[1:]), "--folder", folder, "--mistake", mistake, "--requests", requests)...)
	cmd.Dir = root
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.JSONEq(t, `{"answered": `+requests+`}`, string(out))
	heard := &hearing{Sender: to}
	told, err := follow.Run(ctx, follow.Config{Folders: []string{folder}, State: filepath.Join(t.TempDir(), "state"), Send: heard, Once: true})
	require.NoError(t, err)
	require.Empty(t, told.Trouble)
	require.Len(t, heard.streams, 1)
	return heard.streams[0], told.Lines
}

// hearing notes the streams that are sent.
type hearing struct {
	follow.Sender
	streams []string
}

func (h *hearing) Send(ctx context.Context, stream string, n int64, body []byte) error {
	if !slices.Contains(h.streams, stream) {
		h.streams = append(h.streams, stream)
	}
	return h.Sender.Send(ctx, stream, n, body)
}

// kept keeps what is sent.
type kept struct{ bytes.Buffer }

func (k *kept) Send(_ context.Context, _ string, _ int64, body []byte) error {
	unzip, err := zstd.NewReader(bytes.NewReader(body))
	if err != nil {
		return err
	}
	defer unzip.Close()
	_, err = unzip.WriteTo(k)
	return err
}

// keepFollowed is keep for an office that records into a folder.
func keepFollowed(ctx context.Context, t *testing.T, run []string, runtime, mistake string) {
	t.Helper()
	requests := "48"
	if mistake == "model-rebuilt" {
		requests = "330" // it takes fifty scopes of one name to say so
	}
	all := &kept{}
	followed(ctx, t, run, mistake, requests, all)
	to, err := os.Create(filepath.Join(root, "testdata", "offices", runtime+"-"+mistake+".ndjson.gz"))
	require.NoError(t, err)
	zip := gzip.NewWriter(to)
	_, err = all.WriteTo(zip)
	require.NoError(t, errors.Join(err, zip.Close(), to.Close()))
}
