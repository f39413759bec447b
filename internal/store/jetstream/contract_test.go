package jetstream_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store/jetstream"
	"keenlantern.example/internal/store/storetest"
)

// logServer starts one server of a log in this process, and returns its address.
func logServer(t *testing.T, change func(*server.Options)) (*server.Server, string) {
	t.Helper()
	o := &server.Options{Host: "127.0.0.1", Port: server.RANDOM_PORT, JetStream: true, StoreDir: t.TempDir(), NoSigs: true}
	if change != nil {
		change(o)
	}
	s, err := server.NewServer(o)
	require.NoError(t, err)
	s.Start()
	t.Cleanup(func() {
		s.Shutdown()
		s.WaitForShutdown()
	})
	require.True(t, s.ReadyForConnections(10*time.Second))
	return s, s.ClientURL()
}

// TestContract holds what any store fulfils against a log.
func TestContract(t *testing.T) {
	_, url := logServer(t, nil)
	storetest.Run(t, func(ctx context.Context, folder string) (storetest.Store, error) {
		sum := sha256.Sum256([]byte(folder)) // each folder has its own log on that server
		return jetstream.Open(ctx, jetstream.Config{URL: url, Folder: folder, Name: "t" + hex.EncodeToString(sum[:8]), Replicas: 1, Partitions: 4, Lease: 5 * time.Second})
	})
}
