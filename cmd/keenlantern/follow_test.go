package main_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/client"
)

func oneRequest(n int) string {
	return fmt.Sprintf(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"r%d","start":"2026-03-02T05:%02d:%02d.%03d000000Z"}
{"ev":"register","t":1,"reg":1,"service":"TideSource","lifetime":"scoped"}
{"ev":"open","t":2,"scope":1,"kind":"request","name":"GET /tides"}
{"ev":"make","t":3,"inst":1,"reg":1,"scope":1}
{"ev":"close","t":4,"scope":1}
{"ev":"bye","t":5}
`, n, n/60000, n/1000%60, n%1000)
}

// TestFollowKilled has requests appended to files while 'keenlantern follow' is killed again and again, and in the end, and the service
// followed them too: each request was taken once.
func TestFollowKilled(t *testing.T) {
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	service, err := browser.Serve(bin, "serve", filepath.Join(folder, "data"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, service.Stop()) }()
	traces := filepath.Join(folder, "traces")
	require.NoError(t, os.Mkdir(traces, 0o700))
	follow := func(more ...string) *exec.Cmd {
		cmd := exec.Command(bin, append([]string{"follow", traces, "--server", service.URL}, more...)...)
		cmd.Stderr = os.Stderr
		return cmd
	}
	random := rand.New(rand.NewPCG(3, 4))
	written := 0
	for range 15 {
		cmd := follow()
		require.NoError(t, cmd.Start())
		for until := time.Now().Add(time.Duration(30+random.IntN(150)) * time.Millisecond); time.Now().Before(until); written++ {
			to, err := os.OpenFile(filepath.Join(traces, fmt.Sprintf("office-%d.requests.ndjson", written%2)), os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
			require.NoError(t, err)
			_, err = to.WriteString(oneRequest(written))
			require.NoError(t, err)
			require.NoError(t, to.Close())
			time.Sleep(time.Millisecond)
		}
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
	}
	out, err := follow("--once", "--remove").Output()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), "joined from")
	left, err := filepath.Glob(filepath.Join(traces, "*.ndjson"))
	require.NoError(t, err)
	assert.Empty(t, left)

	ask := &client.Client{Base: service.URL}
	require.Eventually(t, func() bool {
		scopes := scopesOf(t, ask)
		require.LessOrEqual(t, scopes, int64(written), "a request was taken twice")
		return scopes == int64(written)
	}, 20*time.Second, 50*time.Millisecond)
}

// scopesOf counts the scopes of all that a service has taken, of which it may have refused no line.
func scopesOf(t *testing.T, ask *client.Client) int64 {
	list, err := ask.Recordings(t.Context(), 100, 0)
	require.NoError(t, err)
	scopes := int64(0)
	for _, r := range list.Recordings {
		detail, err := ask.Recording(t.Context(), r.ID)
		require.NoError(t, err)
		for _, s := range detail.StreamList {
			require.Zero(t, s.Health.Refused, "%+v", s.Health.Refusals)
			scopes += s.Figures.Scopes
		}
	}
	return scopes
}

// TestServeFollows has a service take what is written into a folder, over its own end and start.
func TestServeFollows(t *testing.T) {
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	traces := filepath.Join(folder, "traces")
	require.NoError(t, os.Mkdir(traces, 0o700))
	path := filepath.Join(traces, "office.requests.ndjson")
	for round := 1; round <= 2; round++ {
		service, err := browser.Serve(bin, "serve", filepath.Join(folder, "data"), "--follow", traces)
		require.NoError(t, err)
		to, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
		require.NoError(t, err)
		for n := range 10 {
			_, err = to.WriteString(oneRequest(round*100 + n))
			require.NoError(t, err)
		}
		require.NoError(t, to.Close())
		ask := &client.Client{Base: service.URL}
		require.Eventually(t, func() bool {
			return scopesOf(t, ask) == int64(10*round)
		}, 20*time.Second, 50*time.Millisecond)
		require.NoError(t, service.Stop())
	}
}
