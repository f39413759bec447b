package jetstream_test

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	nats_js "github.com/nats-io/nats.go/jetstream"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/store"
	"keenlantern.example/internal/store/jetstream"
)

// working is a worker whose Take a test decides on.
type working struct {
	take func(stream string, b store.Batch) error
}

func (w working) Take(_ context.Context, stream string, b store.Batch, free func()) error {
	defer free()
	return w.take(stream, b)
}
func (working) HandOver(context.Context, func(string) bool) {}
func (working) Heard(string)                                {}
func (working) Doing() (loaded, running []string)           { return nil, nil }
func (working) Key() string                                 { return "k" }

// begun begins a recording with a stream of one batch.
func begun(t *testing.T, s *jetstream.Store, recording, stream string) int64 {
	t.Helper()
	rec := store.Recording{ID: recording, App: "harbour-office", Source: "live", CreatedNS: 1}
	id, err := s.BeginStream(t.Context(), &rec, store.Stream{Recording: recording, Name: stream, Live: true}, store.Batch{N: 1, FirstLine: 1, Lines: 1, Body: []byte("x\n")}, 1)
	require.NoError(t, err)
	return id
}

// TestReadyWithoutWhatWasDeleted checks that a partition becomes ready though the last batch that it had to be read up to is deleted
// meanwhile.
func TestReadyWithoutWhatWasDeleted(t *testing.T) {
	_, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 1, Lease: 5 * time.Second})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	begun(t, s, "aaa11", "first")
	for n := range 40 { // more than is fetched before it is wanted
		begun(t, s, fmt.Sprintf("bbb%02d", n), fmt.Sprint("later ", n))
	}
	taken, goOn := make(chan struct{}), make(chan struct{})
	require.NoError(t, s.Work(working{func(stream string, _ store.Batch) error {
		if stream == "first" {
			close(taken)
			<-goOn
		}
		return nil
	}}))
	<-taken
	for n := range 40 {
		require.NoError(t, s.DeleteRecording(t.Context(), fmt.Sprintf("bbb%02d", n)))
	}
	close(goOn)
	require.Eventually(t, func() bool {
		all := s.Services()
		return all.Free+all.Reading == 0
	}, 15*time.Second, 50*time.Millisecond, "it is ready")
}

// TestReachedWhileBusy checks that it is noted how far a partition has been worked on though one of its streams never rests: results
// are always some batches behind.
func TestReachedWhileBusy(t *testing.T) {
	_, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 1, Lease: 5 * time.Second})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	id := begun(t, s, "aaa11", "busy")
	require.NoError(t, s.Work(working{func(_ string, b store.Batch) error {
		if b.N%10 != 0 {
			return nil
		}
		return s.SetResult(t.Context(), id, &store.Derived{Analysed: b.N - 5, Key: "k", Result: []byte("{}")})
	}}))
	c, err := nats.Connect(url)
	require.NoError(t, err)
	defer c.Close()
	js, err := nats_js.New(c)
	require.NoError(t, err)
	catalog, err := js.KeyValue(t.Context(), "keenlantern-catalog")
	require.NoError(t, err)
	n := int64(1)
	require.Eventually(t, func() bool {
		for range 10 {
			n++
			if !assert.NoError(t, s.AppendBatch(t.Context(), id, store.Batch{N: n, FirstLine: n, Lines: 1, Body: []byte("x\n")}, 1)) {
				return false
			}
		}
		var reached struct {
			Seq int64 `json:"seq"`
		}
		row, err := catalog.Get(t.Context(), "reached.0")
		return err == nil && json.Unmarshal(row.Value(), &reached) == nil && reached.Seq > 50
	}, 20*time.Second, 100*time.Millisecond, "the older batches count as done")
}

// TestConsumersOfTheDead checks that the consumers of services that died are deleted when their partitions are taken over: a log may limit its
// consumers.
func TestConsumersOfTheDead(t *testing.T) {
	_, url := logServer(t, nil)
	open := func() *jetstream.Store {
		s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 2, Lease: 5 * time.Second})
		require.NoError(t, err)
		return s
	}
	s := open()
	begun(t, s, "aaa11", "first")
	require.NoError(t, s.Close())
	c, err := nats.Connect(url)
	require.NoError(t, err)
	defer c.Close()
	js, err := nats_js.New(c)
	require.NoError(t, err)
	batches, err := js.Stream(t.Context(), "keenlantern-batches")
	require.NoError(t, err)
	for part := range 2 {
		for n := range 5 {
			_, err := batches.CreateConsumer(t.Context(), nats_js.ConsumerConfig{Name: fmt.Sprintf("partition-%d_%d", part, n+1), InactiveThreshold: 5 * time.Minute, AckPolicy: nats_js.AckNonePolicy, MemoryStorage: true})
			require.NoError(t, err)
		}
	}
	s = open()
	defer func() { require.NoError(t, s.Close()) }()
	require.NoError(t, s.Work(working{func(string, store.Batch) error { return nil }}))
	require.Eventually(t, func() bool {
		all := s.Services()
		info, err := batches.Info(t.Context())
		return all.Free+all.Reading == 0 && err == nil && info.State.Consumers == 2
	}, 15*time.Second, 50*time.Millisecond, "it is ready, with one consumer for each partition")
}

// TestPoisonedMessage checks that a message which is no batch, and a batch that cannot be unpacked, hold up no other stream.
func TestPoisonedMessage(t *testing.T) {
	_, url := logServer(t, nil)
	s, err := jetstream.Open(t.Context(), jetstream.Config{URL: url, Folder: t.TempDir(), Replicas: 1, Partitions: 1, Lease: 5 * time.Second})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	first := begun(t, s, "aaa11", "first")
	c, err := nats.Connect(url)
	require.NoError(t, err)
	defer c.Close()
	js, err := nats_js.New(c)
	require.NoError(t, err)
	batches, err := js.Stream(t.Context(), "keenlantern-batches")
	require.NoError(t, err)
	stored, err := batches.GetMsg(t.Context(), uint64(first))
	require.NoError(t, err)
	words := strings.Split(stored.Subject, ".")
	for n, header := range []nats.Header{nil, stored.Header, {"Keenlantern-Lines": {"many"}}} {
		for _, token := range []string{words[len(words)-2], fmt.Sprint("0123456789abcdef", n)} {
			subject := strings.Join(append(append([]string{}, words[:len(words)-2]...), token, fmt.Sprint(n+2)), ".")
			_, err := js.PublishMsg(t.Context(), &nats.Msg{Subject: subject, Header: header, Data: []byte("\x28\xb5\x2f\xfdnonsense")})
			require.NoError(t, err)
		}
	}
	begun(t, s, "bbb22", "behind")
	taken := make(chan string, 100)
	require.NoError(t, s.Work(working{func(stream string, b store.Batch) error {
		taken <- fmt.Sprint(stream, " ", b.N, " ", b.Body != nil)
		return nil
	}}))
	var all []string
	require.Eventually(t, func() bool {
		for {
			select {
			case one := <-taken:
				all = append(all, one)
				continue
			default:
			}
			return slices.Contains(all, "behind 1 true")
		}
	}, 15*time.Second, 50*time.Millisecond, "%v", &all)
	require.Contains(t, all, "first 1 true")
}
