package ingest_test

import (
	"bytes"
	"context"
	"database/sql"
	"io"
	"os"
	"path/filepath"
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

// harbour is a trace with findings.
func harbour(t *testing.T) []byte {
	t.Helper()
	text, err := os.ReadFile("../../testdata/harbour.ndjson")
	require.NoError(t, err)
	return text
}

// TestDerivedDamaged checks that what was derived and cannot be read is said to be damaged, is made again from the batches while
// the service runs, and is then as it was.
func TestDerivedDamaged(t *testing.T) {
	folder := t.TempDir()
	hub, _, end := hubOn(t, folder)
	defer func() { end() }()
	sum, err := hub.PutFile(t.Context(), bytes.NewReader(harbour(t)), 1<<30)
	require.NoError(t, err)
	_, want, err := hub.Result(t.Context(), sum.ID)
	require.NoError(t, err)
	scopes := pages(t, hub, sum.ID)
	for name, damage := range map[string]string{
		"the result":           `UPDATE streams SET result = x'00'`,
		"the result's content": `UPDATE streams SET result = x'28b52ffd0458210000636174e3c5a3f2'`,
		"the state":            `UPDATE streams SET state = x'00'`,
		"the digest":           `UPDATE streams SET digest = 'half'`,
	} {
		t.Run(name, func(t *testing.T) {
			db, err := sql.Open("sqlite", filepath.Join(folder, sqlite.FileName))
			require.NoError(t, err)
			_, err = db.Exec(damage)
			require.NoError(t, err)
			require.NoError(t, db.Close())
			end() // what is cached is dropped
			hub, _, end = hubOn(t, folder)
			require.Eventually(t, func() bool {
				src, err := hub.Source(t.Context(), sum.ID)
				require.NoError(t, err, "it is reported, and fails nothing")
				_, got, err := hub.Result(t.Context(), sum.ID)
				require.NoError(t, err)
				now, err := hub.Summary(t.Context(), sum.ID)
				require.NoError(t, err)
				return len(src.Streams) == 1 && assert.ObjectsAreEqual(want, got) && now.Health.Broken == 0
			}, 10*time.Second, 5*time.Millisecond)
			assert.Equal(t, scopes, pages(t, hub, sum.ID))
		})
	}
}

// TestBatchDamaged checks that a stream of which a batch cannot be read is broken and no other is, that the rest of it can be
// exported, and that it is analysed again on request.
func TestBatchDamaged(t *testing.T) {
	folder := t.TempDir()
	hub, _, end := hubOn(t, folder)
	defer func() { end() }()
	sum, err := hub.PutFile(t.Context(), bytes.NewReader(harbour(t)), 1<<30)
	require.NoError(t, err)
	for n := 1; n <= 3; n++ {
		_, err := hub.PutBatch(t.Context(), "office", lines("office", n))
		require.NoError(t, err)
	}
	live, err := hub.Summary(t.Context(), "latest")
	require.NoError(t, err)
	end()
	db, err := sql.Open("sqlite", filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE batches SET body = x'00' WHERE n = 2`)
	require.NoError(t, err)
	_, err = db.Exec(`DELETE FROM checkpoints`)
	require.NoError(t, err)
	require.NoError(t, db.Close())

	hub, _, end = hubOn(t, folder)
	n, err := hub.Again(t.Context(), live.ID)
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	require.Eventually(t, func() bool {
		s, err := hub.Summary(t.Context(), live.ID)
		require.NoError(t, err)
		return s.Health.Broken == 1
	}, 10*time.Second, 5*time.Millisecond)
	s, err := hub.Summary(t.Context(), live.ID)
	require.NoError(t, err)
	assert.Contains(t, s.Health.Why, "batch 2 of 3 cannot be read")
	assert.Equal(t, "broken", s.State)
	sound, err := hub.Summary(t.Context(), sum.ID)
	require.NoError(t, err)
	assert.Zero(t, sound.Health.Broken)
	var out bytes.Buffer
	damaged, err := hub.Export(t.Context(), live.ID, &out)
	require.NoError(t, err)
	assert.Equal(t, 1, damaged)
	text := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, text, 6)
	assert.JSONEq(t, `{"ev":"gap","t":0,"lost":2,"why":"batch 2 could not be read from the store"}`, text[3])
	_, err = hub.Again(t.Context(), "nobody")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// reading gives a file in two halves, and waits before the second one.
type reading struct {
	first, second io.Reader
	begun, goOn   chan struct{}
	once          bool
}

func (r *reading) Read(p []byte) (int, error) {
	if n, err := r.first.Read(p); err == nil {
		return n, nil
	}
	if !r.once {
		r.once = true
		close(r.begun)
		<-r.goOn
	}
	return r.second.Read(p)
}

// Abort is called when the rest is not needed.
func (r *reading) Abort() { close(r.goOn) }

// TestImports holds what can become of a file on its way in: it is shown as being imported, can be deleted and given up, leaves
// nothing behind then, and there are only so many at once.
func TestImports(t *testing.T) {
	hub, _, end := hubOn(t, t.TempDir())
	defer end()
	begin := func(ctx context.Context) (*reading, chan error) {
		text := bytes.Repeat(harbour(t), 40) // so that some of it is stored before it ends
		r := &reading{first: bytes.NewReader(text), second: bytes.NewReader(text), begun: make(chan struct{}), goOn: make(chan struct{})}
		done := make(chan error, 1)
		go func() {
			_, err := hub.PutFile(ctx, r, 1<<30)
			done <- err
		}()
		<-r.begun
		return r, done
	}
	list := func() []views.Summary {
		l, _, err := hub.Summaries(t.Context(), 100, 0)
		require.NoError(t, err)
		return l
	}
	_, done := begin(t.Context())
	require.Eventually(t, func() bool { return len(list()) == 1 }, 5*time.Second, time.Millisecond)
	assert.Equal(t, "importing", list()[0].State)
	_, err := hub.Again(t.Context(), list()[0].ID)
	require.ErrorIs(t, err, ingest.ErrRunning)
	require.NoError(t, hub.Delete(t.Context(), list()[0].ID))
	require.ErrorIs(t, <-done, ingest.ErrDeleted)
	assert.Empty(t, list())

	ctx, cancel := context.WithCancel(t.Context())
	_, done = begin(ctx)
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
	assert.Empty(t, list())

	var all []chan error
	ctx, cancel = context.WithCancel(t.Context())
	for range 8 {
		_, done := begin(ctx)
		all = append(all, done)
	}
	_, err = hub.PutFile(t.Context(), bytes.NewReader(harbour(t)), 1<<30)
	require.ErrorIs(t, err, ingest.ErrBusy)
	cancel()
	for _, done := range all {
		require.ErrorIs(t, <-done, context.Canceled)
	}
	assert.Empty(t, list())

	unusable := (*ingest.Unusable)(nil)
	for why, text := range map[string]string{
		"no stream in it": "{}\n", "no stream in it: no line": "\n\n\n", "breaks off": "\x1f\x8b\x08half", "more than 10 bytes": string(harbour(t)),
	} {
		_, err = hub.PutFile(t.Context(), strings.NewReader(text), map[bool]int64{true: 10, false: 1 << 30}[strings.HasPrefix(why, "more")])
		require.ErrorAs(t, err, &unusable, why)
	}
	assert.Empty(t, list())
}
