package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
)

// TestHousekeeping checks that recordings are named, pinned, exported as they came, and deleted with the space they took;
// that housekeeping deletes the oldest and leaves pinned ones; and that a second service stays out of the folder.
func TestHousekeeping(t *testing.T) {
	folder := t.TempDir()
	r := start(t, folder)
	text, err := os.ReadFile("../../testdata/office.ndjson")
	require.NoError(t, err)
	put := func(n int) string {
		t.Helper()
		status, _, said := r.do(http.MethodPost, "/api/v1/recordings", strings.NewReader(strings.ReplaceAll(string(text), "office-1", fmt.Sprint("office-", n))))
		require.Equal(t, http.StatusCreated, status, "%s", said)
		var s views.Summary
		require.NoError(t, json.Unmarshal(said, &s))
		assert.Equal(t, map[string]string{}, s.Labels)
		return s.ID
	}
	first := put(1)
	_, err = sqlite.Open(t.Context(), folder)
	require.ErrorIs(t, err, store.ErrInUse)

	status, _, said := r.do(http.MethodPatch, "/api/v1/recordings/"+first, strings.NewReader(`{"name":"before","pinned":true,"labels":{"ticket":"417"}}`))
	require.Equal(t, http.StatusOK, status, "%s", said)
	var list views.RecordingList
	r.json("/api/v1/recordings", &list)
	assert.Equal(t, "before", list.Recordings[0].Name)
	assert.True(t, list.Recordings[0].Pinned)
	assert.Equal(t, map[string]string{"ticket": "417"}, list.Recordings[0].Labels)
	for _, bad := range []string{"", `{"colour":1}`, `[]`} {
		assert.Equal(t, http.StatusBadRequest, r.problem(http.MethodPatch, "/api/v1/recordings/"+first, strings.NewReader(bad)).Status)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, r.problem(http.MethodPatch, "/api/v1/recordings/"+first, strings.NewReader(`{"name":"`+strings.Repeat("x", 201)+`"}`)).Status)

	status, header, got := r.do(http.MethodGet, "/api/v1/recordings/"+first+"/export", nil)
	require.Equal(t, http.StatusOK, status)
	assert.Equal(t, string(text), string(got), "what was imported comes back byte for byte")
	assert.Contains(t, header.Get("Content-Disposition"), first)

	// One that is being written is not deleted.
	status, _, _ = r.do(http.MethodPut, "/api/v1/streams/h-1/batches/1", lines(sample(t)[:6]))
	require.Equal(t, http.StatusOK, status)
	eventually(t, "it runs", func() bool {
		r.json("/api/v1/recordings", &list)
		return list.Recordings[0].State == "running"
	})
	running := list.Recordings[0].ID
	assert.Equal(t, http.StatusConflict, r.problem(http.MethodDelete, "/api/v1/recordings/"+running, nil).Status)
	status, _, _ = r.do(http.MethodPut, "/api/v1/streams/h-1/batches/2", lines(sample(t)[6:]))
	require.Equal(t, http.StatusOK, status)
	eventually(t, "it ends", func() bool {
		status, _, _ := r.do(http.MethodDelete, "/api/v1/recordings/"+running, nil)
		return status == http.StatusNoContent
	})
	assert.Equal(t, http.StatusNotFound, r.problem(http.MethodGet, "/api/v1/recordings/"+running, nil).Status)
	assert.Equal(t, http.StatusNotFound, r.problem(http.MethodDelete, "/api/v1/recordings/"+running, nil).Status)

	others := []string{put(2), put(3), put(4)}
	gone, err := r.hub.Tidy(t.Context(), ingest.Keep{})
	require.NoError(t, err)
	assert.Empty(t, gone)
	gone, err = r.hub.Tidy(t.Context(), ingest.Keep{Bytes: 1})
	require.NoError(t, err)
	assert.Equal(t, others, gone, "the oldest first, but never what is pinned")
	old := put(5)
	gone, err = r.hub.Tidy(t.Context(), ingest.Keep{For: time.Hour})
	require.NoError(t, err)
	assert.Empty(t, gone)
	gone, err = r.hub.Tidy(t.Context(), ingest.Keep{For: time.Nanosecond})
	require.NoError(t, err)
	assert.Equal(t, []string{old}, gone)
	r.json("/api/v1/recordings", &list)
	require.Len(t, list.Recordings, 1)
	assert.Equal(t, first, list.Recordings[0].ID)
}

// TestSpaceIsFreed checks that the database's file shrinks when a recording is deleted.
func TestSpaceIsFreed(t *testing.T) {
	folder := t.TempDir()
	r := start(t, folder)
	size := func() int64 {
		// What is in the log beside it gets into the file when that is closed.
		r.end()
		info, err := os.Stat(folder + "/" + sqlite.FileName)
		require.NoError(t, err)
		r = start(t, folder)
		return info.Size()
	}
	empty := size()
	b := strings.Builder{}
	require.NoError(t, office(&b, 1200))
	status, _, said := r.do(http.MethodPost, "/api/v1/recordings", strings.NewReader(b.String()))
	require.Equal(t, http.StatusCreated, status, "%s", said)
	full := size()
	assert.Greater(t, full, empty+50_000)
	status, _, _ = r.do(http.MethodDelete, "/api/v1/recordings/latest", nil)
	require.Equal(t, http.StatusNoContent, status)
	assert.Less(t, size(), empty+20_000)
}

// TestMetrics checks that the service counts what it takes and what it is asked, and reports when it is ready.
func TestMetrics(t *testing.T) {
	r := start(t, t.TempDir())
	status, _, _ := r.do(http.MethodPut, "/api/v1/streams/h-1/batches/1", lines(sample(t)))
	require.Equal(t, http.StatusOK, status)
	r.problem(http.MethodGet, "/api/v1/recordings/none", nil)
	status, _, _ = r.do(http.MethodGet, "/readyz", nil)
	assert.Equal(t, http.StatusOK, status)
	status, header, said := r.do(http.MethodGet, "/metrics", nil)
	require.Equal(t, http.StatusOK, status)
	assert.Contains(t, header.Get("Content-Type"), "text/plain")
	for _, want := range []string{
		"keenlantern_ingest_batches_total 1\n", "keenlantern_ingest_lines_total 14\n", "keenlantern_streams_loaded 1\n", "keenlantern_ready 1\n",
		`keenlantern_http_request_seconds_count{method="GET",route="/api/v1/recordings/:recording",status="404"} 1`, "go_goroutines",
	} {
		assert.Contains(t, string(said), want)
	}
}
