package main_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

// send sends a stream's batches in order, each until it is acknowledged, whatever happens to the service meanwhile.
func send(url, stream string, batches []string, pause time.Duration) error {
	client := &http.Client{Timeout: 2 * time.Second}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for n, batch := range batches {
		if _, err := load.Send(ctx, client, load.Batch{URL: url, Stream: stream, N: n + 1, Body: []byte(batch)}, 10*time.Millisecond); err != nil {
			return err
		}
		time.Sleep(pause)
	}
	return nil
}

// TestKilled kills the service again and again in the middle of what several senders send, and checks that in the end
// everything that was acknowledged is there, once, and that the same was found as without a kill.
func TestKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("starts and kills a real process several times")
	}
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	// The port has to stay the same over restarts.
	probe, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := probe.Addr().String()
	require.NoError(t, probe.Close())
	data := filepath.Join(folder, "data")
	service, err := browser.Serve(bin, "serve", data, "--listen", address)
	require.NoError(t, err)

	want := map[string]*engine.Result{}
	var senders sync.WaitGroup
	failed := make(chan error, 3)
	for k := range 3 {
		stream := fmt.Sprintf("h-%d", k+1)
		batches := load.Leaky(stream, 1200+50*k)
		want[stream], err = engine.Analyse(t.Context(), strings.NewReader(strings.Join(batches, "")), reader.Options{}, rules.Default())
		require.NoError(t, err)
		senders.Go(func() {
			if err := send("http://"+address, stream, batches, 5*time.Millisecond); err != nil {
				failed <- err
			}
		})
	}
	done := make(chan struct{})
	go func() {
		senders.Wait()
		close(done)
	}()
	kills := 0
	for running := true; running; {
		select {
		case <-done:
			running = false
		case <-time.After(time.Duration(100+rand.IntN(250)) * time.Millisecond):
			service.Kill()
			kills++
			service, err = browser.Serve(bin, "serve", data, "--listen", address)
			require.NoError(t, err)
		}
	}
	select {
	case err := <-failed:
		require.NoError(t, err)
	default:
	}
	service.Kill()
	service, err = browser.Serve(bin, "serve", data, "--listen", address)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, kills, 2, "the service was killed while it was at work")

	var list views.RecordingList
	get(t, service.URL+"/api/v1/recordings", &list)
	seen := map[string]bool{}
	require.Eventually(t, func() bool {
		clear(seen)
		for _, r := range list.Recordings {
			var found views.RecordingFindings
			get(t, service.URL+"/api/v1/recordings/"+r.ID+"/findings", &found)
			for _, s := range found.Streams {
				seen[s.Stream] = s.Ended
			}
		}
		return seen["h-1"] && seen["h-2"] && seen["h-3"]
	}, 10*time.Second, 50*time.Millisecond, "all is analysed again")
	leaks, wanted := int64(0), int64(0)
	for _, r := range list.Recordings {
		var found views.RecordingFindings
		get(t, service.URL+"/api/v1/recordings/"+r.ID+"/findings", &found)
		for _, s := range found.Streams {
			assert.Equal(t, want[s.Stream].Streams[0], s, "stream %s", s.Stream)
		}
		for _, f := range found.Findings {
			assert.Equal(t, want["h-1"].Findings[0].ID, f.ID)
			leaks += f.Counts["instances"]
		}
	}
	for _, r := range want {
		wanted += r.Findings[0].Counts["instances"]
	}
	assert.Equal(t, wanted, leaks)
	require.NoError(t, service.Stop())
}

func get(t *testing.T, url string, into any) {
	t.Helper()
	res, err := http.Get(url)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode, url)
	var text bytes.Buffer
	_, err = text.ReadFrom(res.Body)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text.Bytes(), into))
}

// TestUnusableFolder checks that what cannot be opened is reported in a line.
func TestUnusableFolder(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	folder := t.TempDir()
	bin, err := browser.Build(folder)
	require.NoError(t, err)
	_, err = browser.Serve(bin, "serve", filepath.Join(bin, "not-a-folder"))
	require.ErrorContains(t, err, "create the data folder")
}
