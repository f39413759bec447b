package sqlite_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/sqlite"
)

// filled has a store with some recordings whose batches are of all sizes, and returns the lines of each batch.
func filled(t *testing.T, folder string) (*sqlite.Store, map[string]string) {
	t.Helper()
	s, err := sqlite.Open(t.Context(), folder)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(1, 14))
	lines := map[string]string{}
	for k := range 6 {
		rec := store.Recording{ID: fmt.Sprintf("recording%d", k), App: "harbour", Version: "1.4", Source: "live", CreatedNS: int64(k + 1), Summary: []byte("{}")}
		var id int64
		for n := int64(1); n <= 5; n++ {
			noise := make([]byte, []int{10, 200, 3000, 12_000}[r.IntN(4)])
			for at := range noise {
				noise[at] = byte('a' + r.IntN(26))
			}
			body := fmt.Sprintf(`{"ev":"open","t":%d,"scope":1,"name":"%s"}`+"\n", n, noise)
			lines[fmt.Sprintf("stream-%d %d", k, n)] = body
			b := store.Batch{N: n, FirstLine: n, Lines: 1, Body: []byte(body)}
			if n == 1 {
				id, err = s.BeginStream(t.Context(), &rec, store.Stream{Recording: rec.ID, Name: fmt.Sprintf("stream-%d", k), Live: true, Owner: "token-1"}, b, 1)
			} else {
				err = s.AppendBatch(t.Context(), id, b, n)
			}
			require.NoError(t, err)
		}
	}
	require.NoError(t, s.AddToken(t.Context(), store.Token{ID: "token-1", Name: "quay", Kind: "record", Hash: strings.Repeat("a", 64), CreatedNS: 1}))
	require.NoError(t, s.SetContract(t.Context(), store.Contract{App: "harbour", Body: []byte("app: harbour\n")}))
	return s, lines
}

func copyFolder(t *testing.T, from string) string {
	t.Helper()
	to := t.TempDir()
	for _, name := range []string{sqlite.FileName, sqlite.FileName + "-wal", sqlite.MarkName} {
		if b, err := os.ReadFile(filepath.Join(from, name)); err == nil {
			require.NoError(t, os.WriteFile(filepath.Join(to, name), b, 0o600))
		}
	}
	return to
}

func describe([]byte) (app, version, environment string, startNS int64) {
	return "harbour", "1.4", "", 1
}

// TestEachPage zeroes each page of a database in turn. What is on the others is salvaged, and a service opens what was repaired.
func TestEachPage(t *testing.T) {
	folder := t.TempDir()
	s, lines := filled(t, folder)
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	found, err := sqlite.Salvage(folder)
	require.NoError(t, err)
	require.True(t, found.Whole(), "%v", found.Lost)
	require.Len(t, found.Streams, 6)
	require.Len(t, found.Recordings, 6)

	const size = 4096
	repaired := 0
	for page := range len(whole) / size {
		damaged := t.TempDir()
		broken := bytes.Clone(whole)
		clear(broken[page*size : (page+1)*size])
		require.NoError(t, os.WriteFile(filepath.Join(damaged, sqlite.FileName), broken, 0o600))

		found, err := sqlite.Salvage(damaged)
		require.NoError(t, err)
		got := 0
		defer found.Close()
		for n := range found.Streams {
			st := &found.Streams[n]
			require.NoError(t, st.Batches(func(b store.Batch) error {
				if b.Body != nil {
					got++
					name := st.Name
					if !st.Known {
						name = fmt.Sprintf("stream-%d", st.ID-1)
					}
					assert.Equal(t, lines[fmt.Sprintf("%s %d", name, b.N)], string(b.Body))
				}
				return nil
			}))
		}
		// A leaf holds some small batches, an overflow page a part of one.
		assert.GreaterOrEqual(t, got, len(lines)-12, "page %d", page+1)
		if got < len(lines) {
			assert.False(t, found.Whole(), "page %d", page+1)
		}

		again, err := sqlite.Open(t.Context(), damaged)
		if err != nil {
			require.ErrorIs(t, err, store.ErrDamaged, "page %d", page+1)
			_, aside, err := sqlite.Repair(t.Context(), damaged, describe)
			require.NoError(t, err, "page %d", page+1)
			assert.FileExists(t, aside)
			again, err = sqlite.Open(t.Context(), damaged)
			require.NoError(t, err, "page %d", page+1)
			repaired++
		}
		list, total, err := again.Recordings(t.Context(), 100, 0)
		require.NoError(t, err, "page %d", page+1)
		assert.Equal(t, len(list), total)
		have := 0
		for _, r := range list {
			assert.Equal(t, "harbour", r.App)
			streams, err := again.Streams(t.Context(), r.ID)
			require.NoError(t, err)
			have += len(streams)
		}
		assert.Equal(t, 6, have, "page %d: streams whose entry is lost have a recording of their own", page+1)
		fresh := store.Recording{ID: "another", App: "harbour", Source: "live", CreatedNS: 99, Summary: []byte("{}")}
		_, err = again.BeginStream(t.Context(), &fresh, store.Stream{Recording: "another", Name: "after", Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("{}\n")}, 1)
		require.NoError(t, err, "page %d takes new streams", page+1)
		require.NoError(t, again.Close())
	}
	assert.Greater(t, repaired, 10, "quick damage is found when the database is opened")
}

// TestLostBatches flips and cuts the write-ahead log behind which a store died: what had been acknowledged and is lost is reported, once.
func TestLostBatches(t *testing.T) {
	folder := t.TempDir()
	s, lines := filled(t, folder) // still open, as when it is killed
	defer s.Close()
	log, err := os.ReadFile(filepath.Join(folder, sqlite.FileName+"-wal"))
	require.NoError(t, err)
	require.Greater(t, len(log), 40*4096, "the batches are in the write-ahead log")
	for name, change := range map[string]func(path string) error{
		"flipped": func(path string) error {
			b := bytes.Clone(log)
			b[len(b)/2] ^= 4
			return os.WriteFile(path, b, 0o600)
		},
		"its header": func(path string) error {
			b := bytes.Clone(log)
			b[9] ^= 4
			return os.WriteFile(path, b, 0o600)
		},
		"cut":         func(path string) error { return os.Truncate(path, int64(len(log)/2)) },
		"cut by half": func(path string) error { return os.Truncate(path, 32+(4096+24)*(int64(len(log)-32)/(4096+24)/2)) },
		"removed":     os.Remove,
	} {
		t.Run(name, func(t *testing.T) {
			damaged := copyFolder(t, folder)
			require.NoError(t, change(filepath.Join(damaged, sqlite.FileName+"-wal")))
			again, err := sqlite.Open(t.Context(), damaged)
			if err != nil { // of a small one nothing may be left
				require.ErrorIs(t, err, store.ErrDamaged)
				return
			}
			assert.NotEmpty(t, again.Lost())
			require.NoError(t, again.Close())
			again, err = sqlite.Open(t.Context(), damaged)
			require.NoError(t, err)
			assert.Empty(t, again.Lost(), "it is reported once")
			require.NoError(t, again.Close())
		})
	}
	t.Run("whole", func(t *testing.T) {
		again, err := sqlite.Open(t.Context(), copyFolder(t, folder))
		require.NoError(t, err)
		assert.Empty(t, again.Lost())
		require.NoError(t, again.Close())
		found, err := sqlite.Salvage(copyFolder(t, folder))
		require.NoError(t, err)
		assert.True(t, found.Whole(), "%v", found.Lost)
		n := 0
		for _, st := range found.Streams {
			n += int(st.Stream.Batches)
		}
		assert.Equal(t, len(lines), n)
	})
}

// TestBackup restores a copy that was made while batches came.
func TestBackup(t *testing.T) {
	folder, copied := t.TempDir(), t.TempDir()
	s, lines := filled(t, folder)
	defer s.Close()
	require.NoError(t, s.Backup(t.Context(), filepath.Join(copied, sqlite.FileName)))
	require.Error(t, s.Backup(t.Context(), filepath.Join(copied, sqlite.FileName)), "nothing is written over")
	again, err := sqlite.Open(t.Context(), copied)
	require.NoError(t, err)
	defer again.Close()
	n := 0
	for k := range 6 {
		st, err := again.LiveStream(t.Context(), fmt.Sprintf("stream-%d", k))
		require.NoError(t, err)
		for b := int64(1); b <= st.Batches; b++ {
			got, err := again.Batch(t.Context(), st.ID, b)
			require.NoError(t, err)
			assert.Equal(t, lines[fmt.Sprintf("stream-%d %d", k, b)], string(got.Body))
			n++
		}
	}
	assert.Equal(t, len(lines), n)
}

// TestFlippedBytes flips bytes all over a database: salvaging comes to an end, and invents no batch.
func TestFlippedBytes(t *testing.T) {
	folder := t.TempDir()
	s, lines := filled(t, folder)
	require.NoError(t, s.Close())
	whole, err := os.ReadFile(filepath.Join(folder, sqlite.FileName))
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(3, 14))
	for range 60 {
		damaged := t.TempDir()
		broken := bytes.Clone(whole)
		for range 1 + r.IntN(200) {
			broken[r.IntN(len(broken))] ^= byte(1 << r.IntN(8))
		}
		require.NoError(t, os.WriteFile(filepath.Join(damaged, sqlite.FileName), broken, 0o600))
		found, err := sqlite.Salvage(damaged)
		require.NoError(t, err)
		for n := range found.Streams {
			require.NoError(t, found.Streams[n].Batches(func(b store.Batch) error {
				if b.Body != nil {
					assert.Contains(t, lines, keyOf(lines, string(b.Body)))
				}
				return nil
			}))
		}
		require.NoError(t, found.Close())
	}
}

func keyOf(lines map[string]string, body string) string {
	for key, have := range lines {
		if have == body {
			return key
		}
	}
	return ""
}
