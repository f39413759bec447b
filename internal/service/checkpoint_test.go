package service_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
	"keenlantern.example/internal/store/sqlite"
)

// TestCheckpoint checks that a restart goes on with a live stream from where its analysis was kept, without reading what
// came before, that the end is what it would have been, and that a checkpoint which cannot be read is no loss.
func TestCheckpoint(t *testing.T) {
	for _, damaged := range []string{"", "checkpoints"} {
		t.Run("damaged: "+damaged, func(t *testing.T) {
			folder := t.TempDir()
			r := start(t, folder)
			office := load.NewOffice("kept-1", 3)
			var all []byte
			n := 0
			put := func(lines []byte) {
				n++
				all = append(all, lines...)
				status, _, said := r.do(http.MethodPut, fmt.Sprintf("/api/v1/streams/kept-1/batches/%d", n), bytes.NewReader(lines))
				require.Equal(t, http.StatusOK, status, "%s", said)
			}
			for range 6 {
				put(office.Requests(30))
			}
			r.end()
			db, err := sql.Open("sqlite", "file:"+folder+"/"+sqlite.FileName)
			require.NoError(t, err)
			var batches int
			require.NoError(t, db.QueryRow("SELECT batches FROM checkpoints").Scan(&batches))
			assert.Equal(t, 6, batches)
			spoil := "UPDATE batches SET body = x'00' WHERE n < 4" // reading these again fails
			if damaged != "" {
				spoil = "UPDATE checkpoints SET body = x'00'"
			}
			_, err = db.Exec(spoil)
			require.NoError(t, err)
			require.NoError(t, db.Close())

			r = start(t, folder)
			put(office.Requests(30))
			put(office.End())
			want, err := engine.Analyse(t.Context(), bytes.NewReader(all), reader.Options{}, rules.Default())
			require.NoError(t, err)
			var got views.RecordingFindings
			eventually(t, "the end", func() bool {
				got = views.RecordingFindings{}
				r.json("/api/v1/recordings/latest/findings", &got)
				return len(got.Streams) == 1 && got.Streams[0].Ended
			})
			assert.Equal(t, want.Streams, got.Streams)
			require.Len(t, got.Findings, len(want.Findings))
			for k, f := range got.Findings {
				assert.Equal(t, want.Findings[k].ID, f.ID)
				assert.Equal(t, want.Findings[k].Counts, f.Counts)
			}
			r.end()
			db, err = sql.Open("sqlite", "file:"+folder+"/"+sqlite.FileName)
			require.NoError(t, err)
			defer db.Close()
			require.NoError(t, db.QueryRow("SELECT count(*) FROM checkpoints").Scan(&batches))
			assert.Zero(t, batches, "a stream that has ended needs none")
		})
	}
}
