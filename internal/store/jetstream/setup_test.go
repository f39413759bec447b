package jetstream_test

import (
	"bytes"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	nats_js "github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
)

// TestBadSetUps checks that a wrong set-up fails at the start, with an error that says what to do.
func TestBadSetUps(t *testing.T) {
	opened := func(t *testing.T, url string, change func(*jetstream.Config)) error {
		t.Helper()
		cfg := jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1}
		if change != nil {
			change(&cfg)
		}
		s, err := jetstream.Open(t.Context(), cfg)
		if err == nil {
			require.NoError(t, s.Close())
		}
		return err
	}
	user := func(may *server.Permissions) func(*server.Options) {
		return func(o *server.Options) {
			o.Users = []*server.User{{Username: "office", Password: "tide", Permissions: may}}
		}
	}
	t.Run("no server", func(t *testing.T) {
		err := opened(t, "nats://127.0.0.1:1", nil)
		require.ErrorContains(t, err, "the log at nats://127.0.0.1:1 cannot be reached")
		require.ErrorContains(t, err, "--log names one or more of its servers")
	})
	t.Run("a log without JetStream", func(t *testing.T) {
		_, url := logServer(t, func(o *server.Options) { o.JetStream = false })
		require.ErrorContains(t, opened(t, url, nil), "has no JetStream, so it keeps nothing; start it with -js")
	})
	t.Run("too few servers for the replicas", func(t *testing.T) {
		_, url := logServer(t, nil)
		err := opened(t, url, func(c *jetstream.Config) { c.Replicas = 0 })
		require.ErrorContains(t, err, "the log has too few servers, or too little room, for 3 replicas")
		require.ErrorContains(t, err, "start with --log-replicas 1")
	})
	t.Run("another token's stream", func(t *testing.T) {
		_, url := logServer(t, nil)
		c, err := nats.Connect(url)
		require.NoError(t, err)
		defer c.Close()
		js, err := nats_js.New(c)
		require.NoError(t, err)
		_, err = js.CreateStream(t.Context(), nats_js.StreamConfig{Name: "keenlantern-batches", Subjects: []string{"anything.>"}})
		require.NoError(t, err)
		require.ErrorContains(t, opened(t, url, nil), "has a stream keenlantern-batches that Keen Lantern has not made; --log-name")
	})
	t.Run("other numbers than the log was begun with", func(t *testing.T) {
		_, url := logServer(t, nil)
		require.NoError(t, opened(t, url, func(c *jetstream.Config) { c.Partitions = 8 }))
		require.NoError(t, opened(t, url, func(c *jetstream.Config) { c.Replicas = 0 }), "without a number, the log's own is used")
		require.ErrorContains(t, opened(t, url, func(c *jetstream.Config) { c.Partitions = 16 }), "has 8 partitions, which cannot be changed, and --log-partitions says 16")
		require.ErrorContains(t, opened(t, url, func(c *jetstream.Config) { c.Replicas = 3 }), "keeps 1 replicas, and --log-replicas says 3")
		require.ErrorContains(t, opened(t, url, func(c *jetstream.Config) { c.Lease = time.Minute }), "last 10s, and --log-lease says 1m0s")
	})
	t.Run("a folder of another log", func(t *testing.T) {
		_, url := logServer(t, nil)
		_, other := logServer(t, nil)
		folder := t.TempDir()
		require.NoError(t, opened(t, url, func(c *jetstream.Config) { c.Folder = folder }))
		require.ErrorContains(t, opened(t, other, func(c *jetstream.Config) { c.Folder = folder }), "the data folder belongs to another log")
	})
	t.Run("two services with one folder", func(t *testing.T) {
		_, url := logServer(t, nil)
		s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1})
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		folder := t.TempDir()
		one, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: folder})
		require.NoError(t, err)
		defer func() { require.NoError(t, one.Close()) }()
		require.ErrorIs(t, opened(t, url, func(c *jetstream.Config) { c.Folder = folder }), store.ErrInUse)
	})
	t.Run("wrong credentials", func(t *testing.T) {
		_, url := logServer(t, user(nil))
		require.ErrorContains(t, opened(t, url, nil), "does not let this service in; --log-credentials names the file")
	})
	t.Run("credentials that may not publish", func(t *testing.T) {
		_, url := logServer(t, user(&server.Permissions{Publish: &server.SubjectPermission{Deny: []string{"keenlantern.batch.>"}}}))
		err := opened(t, withUser(url), nil)
		require.ErrorContains(t, err, "publish to the log: the credentials do not suffice")
		require.ErrorContains(t, err, "they have to allow keenlantern.>")
		assert.NotContains(t, err.Error(), ":tide@", "no password is shown")
	})
	t.Run("credentials that may not use JetStream", func(t *testing.T) {
		_, url := logServer(t, user(&server.Permissions{Publish: &server.SubjectPermission{Allow: []string{"keenlantern.>"}}}))
		require.ErrorContains(t, opened(t, withUser(url), nil), "the credentials do not suffice")
	})
	t.Run("clocks far apart", func(t *testing.T) {
		_, url := logServer(t, nil)
		var said bytes.Buffer
		require.NoError(t, opened(t, url, func(c *jetstream.Config) {
			c.Log = slog.New(slog.NewTextHandler(&said, nil))
			c.Now = func() time.Time { return time.Now().Add(-time.Hour) }
		}))
		assert.Contains(t, said.String(), "clock and the log's are far apart")
		assert.Contains(t, said.String(), "apart=-1h0m0s")
	})
	t.Run("a full log", func(t *testing.T) {
		_, url := logServer(t, nil)
		s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, MaxBytes: 64 << 10})
		require.NoError(t, err)
		defer func() { require.NoError(t, s.Close()) }()
		rec := store.Recording{ID: "aaa11", App: "harbour-office", Source: "live", CreatedNS: 1}
		body := make([]byte, 20<<10)
		for n := range body {
			body[n] = byte(n * n * 7 / 3)
		}
		id, err := s.BeginStream(t.Context(), &rec, store.Stream{Recording: "aaa11", Name: "office-1", Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: body, Packed: body}, 1)
		require.NoError(t, err)
		took := int64(1)
		for ; took < 10; took++ {
			if err = s.AppendBatch(t.Context(), id, store.Batch{N: took + 1, FirstLine: took + 1, Lines: 1, Body: body, Packed: body}, 1); err != nil {
				break
			}
		}
		require.ErrorIs(t, err, store.ErrAway)
		require.ErrorContains(t, err, "its servers can store nothing more")
		st, err := s.StreamByID(t.Context(), id)
		require.NoError(t, err)
		assert.Equal(t, took, st.Batches, "what was acknowledged is there")
		require.NoError(t, s.DeleteRecording(t.Context(), "aaa11"), "what is deleted makes room")
		rec.ID = "bbb22"
		_, err = s.BeginStream(t.Context(), &rec, store.Stream{Recording: "bbb22", Name: "office-2", Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: body, Packed: body}, 1)
		require.NoError(t, err)
	})
}

func withUser(url string) string { return fmt.Sprintf("nats://office:tide@%s", url[len("nats://"):]) }
