package sqlite_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
)

// TestKept checks that tokens and orders are there after a restart, and that a cancelled caller gets an error.
func TestKept(t *testing.T) {
	ctx, folder := t.Context(), t.TempDir()
	s, err := sqlite.Open(ctx, folder)
	require.NoError(t, err)
	old, young := store.Token{ID: "t1", Name: "tide office", Kind: "read", Hash: "h1", CreatedNS: 1}, store.Token{ID: "t2", Kind: "manage", Hash: "h2", CreatedNS: 2}
	require.NoError(t, s.AddToken(ctx, young))
	require.NoError(t, s.AddToken(ctx, old))
	require.NoError(t, s.SetOrder(ctx, "harbour", []byte(`{"on":false}`)))
	require.NoError(t, s.SetOrder(ctx, "harbour", []byte(`{"on":true}`)))
	require.NoError(t, s.Close())

	s, err = sqlite.Open(ctx, folder)
	require.NoError(t, err)
	list, err := s.Tokens(ctx)
	require.NoError(t, err)
	assert.Equal(t, []store.Token{old, young}, list)
	orders, err := s.Orders(ctx)
	require.NoError(t, err)
	assert.Equal(t, map[string][]byte{"harbour": []byte(`{"on":true}`)}, orders)
	require.NoError(t, s.DeleteToken(ctx, "t1"))
	require.ErrorIs(t, s.DeleteToken(ctx, "t1"), store.ErrNotFound)

	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = s.Tokens(gone)
	require.ErrorIs(t, err, context.Canceled)
	_, err = s.Orders(gone)
	require.ErrorIs(t, err, context.Canceled)
	require.ErrorIs(t, s.AddToken(gone, store.Token{ID: "t3", Hash: "h3"}), context.Canceled)
	require.ErrorIs(t, s.DeleteToken(gone, "t2"), context.Canceled)
	require.ErrorIs(t, s.SetOrder(gone, "harbour", []byte("{}")), context.Canceled)
	_, err = sqlite.Open(ctx, folder)
	require.ErrorIs(t, err, store.ErrInUse)
	require.NoError(t, s.Close())

	// What a newer version wrote is left alone.
	db, err := sql.Open("sqlite", filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	_, err = db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, err = sqlite.Open(ctx, folder)
	require.ErrorIs(t, err, store.ErrNewer)
}

// TestDamaged checks that each stored piece that is damaged is distinguished from one that is missing, and that a file
// which is no database is left alone.
func TestDamaged(t *testing.T) {
	ctx, folder := t.Context(), t.TempDir()
	s, err := sqlite.Open(ctx, folder)
	require.NoError(t, err)
	defer s.Close()
	st, err := s.BeginStream(ctx, &store.Recording{ID: "aaa11", App: "harbour", Source: "live", Summary: []byte("{}")},
		store.Stream{Recording: "aaa11", Name: "office", Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("x\n")}, 1)
	require.NoError(t, err)
	require.NoError(t, s.SetResult(ctx, st, &store.Derived{Analysed: 1, Result: []byte("{}"), State: []byte("{}")}))
	require.NoError(t, s.PutChunks(ctx, st, []store.Chunk{{N: 0, Body: []byte("rows")}}))
	require.NoError(t, s.PutCheckpoint(ctx, st, 1, "p", []byte("analysis")))
	db, err := sql.Open("sqlite", filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	defer db.Close()
	for _, q := range []string{
		`UPDATE batches SET body = x'00'`, `UPDATE streams SET result = x'28b52ffd', state = x'00'`, `UPDATE scope_chunks SET body = x'01'`, `UPDATE checkpoints SET body = x'02'`,
	} {
		_, err := db.Exec(q)
		require.NoError(t, err)
	}
	b, err := s.Batch(ctx, st, 1)
	require.ErrorIs(t, err, store.ErrDamaged)
	assert.EqualValues(t, 1, b.FirstLine, "where it stood is known")
	_, err = s.Result(ctx, st)
	require.ErrorIs(t, err, store.ErrDamaged)
	_, _, err = s.State(ctx, st)
	require.ErrorIs(t, err, store.ErrDamaged)
	_, err = s.Chunk(ctx, st, 0)
	require.ErrorIs(t, err, store.ErrDamaged)
	_, _, err = s.Checkpoint(ctx, st, "p")
	require.ErrorIs(t, err, store.ErrDamaged)

	other := t.TempDir()
	text := []byte("this is a letter to the harbour master, and no database at all; it is long enough to be taken for a header of one hundred bytes")
	require.NoError(t, os.WriteFile(filepath.Join(other, sqlite.FileName), text, 0o600))
	_, err = sqlite.Open(ctx, other)
	require.ErrorIs(t, err, store.ErrDamaged)
	left, err := os.ReadFile(filepath.Join(other, sqlite.FileName))
	require.NoError(t, err)
	assert.Equal(t, text, left)
}
