package follow_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/follow"
)

// taker is a service that keeps what it takes: the batches of each stream, in order, each number once.
type taker struct {
	t       testing.TB
	mu      sync.Mutex
	streams map[string][]string
	order   []string
	trouble func(stream string, n int64) error // before it takes a batch; nil: none
	after   func(stream string, n int64) error // when it has been taken: the sender does not hear of it
}

func (k *taker) Send(_ context.Context, stream string, n int64, body []byte) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.trouble != nil {
		if err := k.trouble(stream, n); err != nil {
			return err
		}
	}
	unzip, err := zstd.NewReader(nil)
	require.NoError(k.t, err)
	defer unzip.Close()
	plain, err := unzip.DecodeAll(body, nil)
	require.NoError(k.t, err)
	have := k.streams[stream]
	switch {
	case n <= int64(len(have)):
		require.Equal(k.t, have[n-1], string(plain), "batch %d of %s was taken with other lines", n, stream)
	case n > int64(len(have))+1:
		require.Fail(k.t, "a batch is missing", "%s has %d, and got %d", stream, len(have), n)
	default:
		if n == 1 {
			k.order = append(k.order, stream)
		}
		k.streams[stream] = append(have, string(plain))
	}
	if k.after != nil {
		return k.after(stream, n)
	}
	return nil
}

func newTaker(t testing.TB) *taker { return &taker{t: t, streams: map[string][]string{}} }

func (k *taker) all(stream string) string { return strings.Join(k.streams[stream], "") }

func hello(stream string) string {
	return fmt.Sprintf(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":%q,"start":"2026-03-02T05:40:00.000000000Z","host":"quay"}`, stream) + "\n"
}

func opens(from, to int) string {
	var b strings.Builder
	for n := from; n <= to; n++ {
		fmt.Fprintf(&b, `{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /tides"}`+"\n", n*100, n)
		fmt.Fprintf(&b, `{"ev":"close","t":%d,"scope":%d}`+"\n", n*100+50, n)
	}
	return b.String()
}

const bye = `{"ev":"bye","t":99999999}` + "\n"

func write(t testing.TB, path, text string) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
}

func appendTo(t testing.TB, path, text string) {
	t.Helper()
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString(text)
	require.NoError(t, errors.Join(err, f.Close()))
}

func once(t testing.TB, k *taker, folder string) *follow.Told {
	t.Helper()
	told, err := follow.Run(t.Context(), follow.Config{Folders: []string{folder}, Send: k, Once: true, Within: time.Millisecond})
	require.NoError(t, err)
	return told
}

// TestGrowing sends a file that grows, a half line at a time, is renamed, goes on in a new file, and is compressed.
func TestGrowing(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	path := filepath.Join(folder, "a.ndjson")
	whole := hello("a") + opens(1, 3000)
	write(t, path, hello("a"))
	sent := len(hello("a"))
	for step := 0; sent < len(whole); step++ {
		next := min(len(whole), sent+7001)
		appendTo(t, path, whole[sent:next])
		sent = next
		once(t, k, folder)
		got := k.all("a")
		require.True(t, strings.HasPrefix(whole, got))
		require.Greater(t, len(got), sent-200, "all whole lines are sent")
	}
	require.Equal(t, whole, k.all("a"))
	require.NoError(t, os.Rename(path, path+".1"))
	write(t, path, opens(3001, 3010))
	once(t, k, folder)
	require.Equal(t, whole+opens(3001, 3010), k.all("a"))

	// What was renamed once more and compressed is known again; what had not been sent of it is.
	appendTo(t, path, opens(3011, 3012))
	require.NoError(t, os.Rename(path+".1", path+".2"))
	require.NoError(t, os.Rename(path, path+".1"))
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	_, err := z.Write([]byte(opens(3001, 3012)))
	require.NoError(t, errors.Join(err, z.Close()))
	write(t, path+".1.gz", packed.String())
	require.NoError(t, os.Remove(path+".1"))
	write(t, path, opens(3013, 3014)+bye)
	told := once(t, k, folder)
	require.Empty(t, told.Trouble)
	require.Equal(t, whole+opens(3001, 3014)+bye, k.all("a"))
	require.Zero(t, once(t, k, folder).Batches, "nothing is sent again")
}

// TestRefusedAtStart checks that a batch which was on its way and is refused for good does not stop the others.
func TestRefusedAtStart(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	write(t, filepath.Join(folder, "a.ndjson"), strings.Replace(hello("a"), `{"ev":"hello"`, `{"ev": "hello"`, 1)+opens(1, 1)+bye)
	k.trouble = func(string, int64) error { return &follow.Later{Why: "it is busy"} }
	_, err := follow.Run(t.Context(), follow.Config{Folders: []string{folder}, Send: k, Once: true, Within: time.Nanosecond})
	require.ErrorContains(t, err, "it is busy")
	write(t, filepath.Join(folder, "b.ndjson"), hello("b")+bye)
	k.trouble = func(stream string, _ int64) error {
		if stream == "a" {
			return &follow.Refused{Why: "it does not want it"}
		}
		return nil
	}
	told := once(t, k, folder)
	assert.Equal(t, []string{"the service refused batch 1 of stream a: it does not want it"}, told.Trouble)
	assert.Equal(t, hello("b")+bye, k.all("b"))
}

// TestMany sends thousands of small files, and several streams in one, and deletes them where that is wanted.
func TestMany(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	for n := range 800 {
		write(t, filepath.Join(folder, fmt.Sprintf("s%04d.ndjson", n)), hello(fmt.Sprintf("s%d", n))+opens(1, 1)+bye)
	}
	write(t, filepath.Join(folder, "several.ndjson"), hello("x")+opens(1, 2)+bye+hello("y")+opens(1, 1)+bye)
	write(t, filepath.Join(folder, "going.ndjson"), hello("z")+opens(1, 1))
	write(t, filepath.Join(folder, "other.txt"), "nothing of ours")
	config := follow.Config{Folders: []string{folder}, Send: k, Once: true, Remove: true}
	told, err := follow.Run(t.Context(), config)
	require.NoError(t, err)
	assert.EqualValues(t, 803, told.Streams)
	require.Equal(t, hello("y")+opens(1, 1)+bye, k.all("y"))
	_, err = follow.Run(t.Context(), config)
	require.NoError(t, err)
	left, err := filepath.Glob(filepath.Join(folder, "*.ndjson"))
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, filepath.Join(folder, "going.ndjson"), left[0])
}

// TestTold checks that damage is reported and stops nothing else.
func TestTold(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	in := func(name string) string { return filepath.Join(folder, name) }
	write(t, in("half.ndjson"), hello("half")+opens(1, 1)+`{"ev":"op`)
	write(t, in("middle.ndjson"), opens(1, 1))
	write(t, in("cut.ndjson"), hello("cut")+opens(1, 9))
	write(t, in("damaged.ndjson.gz"), "\x1f\x8bnothing")
	write(t, in("long.ndjson"), hello("long")+strings.Repeat("x", 5<<20)+"\n"+bye)
	write(t, in("none.ndjson"), "")
	told := once(t, k, folder)
	all := strings.Join(told.Trouble, "\n")
	for _, want := range []string{"half.ndjson ends within a line; its last 9 bytes", "middle.ndjson does not begin with a hello", "damaged.ndjson.gz", "long.ndjson has a line of more than 4 MB"} {
		assert.Contains(t, all, want)
	}
	assert.Len(t, told.Trouble, 4)
	assert.Equal(t, hello("half")+opens(1, 1), k.all("half"))
	assert.Equal(t, hello("long")+bye, k.all("long"))
	appendTo(t, in("half.ndjson"), `en","t":5,"scope":2}`+"\n")
	require.NoError(t, os.Truncate(in("cut.ndjson"), int64(len(hello("cut")))+10))
	told = once(t, k, folder)
	assert.Contains(t, strings.Join(told.Trouble, "\n"), "cut.ndjson is shorter than what has been sent")
	assert.Equal(t, hello("half")+opens(1, 1)+`{"ev":"open","t":5,"scope":2}`+"\n", k.all("half"))

	// A stream that the service does not want ends, and the next one in the file does not.
	k.trouble = func(stream string, _ int64) error {
		if stream == "bad" {
			return &follow.Refused{Why: "it has other batches of this stream"}
		}
		return nil
	}
	write(t, in("refused.ndjson"), hello("bad")+opens(1, 9000)+bye+hello("good")+bye)
	told = once(t, k, folder)
	assert.Contains(t, strings.Join(told.Trouble, "\n"), "batch 1 of stream bad: it has other batches")
	assert.Empty(t, k.all("bad"))
	assert.Equal(t, hello("good")+bye, k.all("good"))
}

func request(n int) string {
	return strings.ReplaceAll(hello(fmt.Sprintf("r%d", n)), "05:40:00.000000000", fmt.Sprintf("05:40:%02d.%03d000000", n/1000%60, n%1000)) +
		`{"ev":"register","t":1,"reg":1,"service":"HarbourClock","lifetime":"singleton"}
{"ev":"open","t":2,"scope":1,"kind":"request","name":"GET /tides"}
{"ev":"make","t":3,"inst":1,"reg":1,"scope":1}
{"ev":"close","t":4,"scope":1}
{"ev":"bye","t":5}
`
}

// TestRequests joins requests that several processes append, while the follower is stopped again and again: between any two
// things it does, and with batches that arrived without it having heard so. Each request is sent once.
func TestRequests(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	random := rand.New(rand.NewPCG(7, 7))
	stop := errors.New("it is stopped")
	k.trouble = func(string, int64) error {
		if random.IntN(4) == 0 {
			return &follow.Later{Why: stop.Error()}
		}
		return nil
	}
	k.after = func(string, int64) error {
		if random.IntN(4) == 0 {
			return &follow.Later{Why: stop.Error()}
		}
		return nil
	}
	written := 0
	for range 30 {
		for range 1 + random.IntN(30) {
			text := request(written)
			written++
			path := filepath.Join(folder, fmt.Sprintf("office-%d.requests.ndjson", random.IntN(3)))
			appendTo(t, path, text)
		}
		_, err := follow.Run(t.Context(), follow.Config{Folders: []string{folder}, Send: k, Once: true, Within: time.Nanosecond})
		if err != nil {
			require.ErrorContains(t, err, stop.Error())
		}
	}
	k.trouble, k.after = nil, nil
	once(t, k, folder)
	total := int64(0)
	for stream := range k.streams {
		r, err := engine.Analyse(t.Context(), strings.NewReader(k.all(stream)), reader.Options{}, rules.Default())
		require.NoError(t, err)
		require.True(t, r.Streams[0].Health.Whole(), "%+v", r.Streams[0].Health)
		require.True(t, r.Streams[0].Ended)
		require.Empty(t, r.Findings)
		total += r.Streams[0].Figures.Scopes
	}
	assert.EqualValues(t, written, total)
	require.Zero(t, once(t, k, folder).Batches)
}

// TestApart checks that the requests of two applications, and of two versions, are not joined, however they come.
func TestApart(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	path := filepath.Join(folder, "office.requests.ndjson")
	for n := range 30 {
		text := request(n)
		switch n % 3 {
		case 1:
			text = strings.Replace(text, `"app":"harbour"`, `"app":"lighthouse"`, 1)
		case 2:
			text = strings.Replace(text, `"host":"quay"`, `"host":"quay","version":"2"`, 1)
		}
		appendTo(t, path, text)
	}
	told := once(t, k, folder)
	assert.EqualValues(t, 30, told.Requests)
	assert.EqualValues(t, 3, told.Joined)
	for _, stream := range k.order {
		assert.Equal(t, 10, strings.Count(k.all(stream), `"kind":"request"`))
	}
}

// stopping is stopped at the moment when a batch has arrived.
type stopping struct {
	follow.Sender
	stop func()
}

func (s *stopping) Send(ctx context.Context, stream string, n int64, body []byte) error {
	defer s.stop()
	return s.Sender.Send(ctx, stream, n, body)
}

// TestStoppedAsABatchArrives checks that what has arrived then is noted, and its stream ends.
func TestStoppedAsABatchArrives(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	appendTo(t, filepath.Join(folder, "office.requests.ndjson"), request(1))
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	told, err := follow.Run(ctx, follow.Config{Folders: []string{folder}, Send: &stopping{k, cancel}, Every: time.Millisecond})
	require.NoError(t, err)
	assert.EqualValues(t, 2, told.Batches)
	require.Len(t, k.order, 1)
	assert.Contains(t, k.all(k.order[0]), `"why":"recording goes on in another stream"`)
	assert.Zero(t, once(t, k, folder).Batches, "nothing is left to be sent")
}

// TestStays follows while requests come, joins them into one stream, and ends it when it is stopped; no other process may follow.
func TestStays(t *testing.T) {
	folder, k := t.TempDir(), newTaker(t)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan *follow.Told)
	go func() {
		told, err := follow.Run(ctx, follow.Config{Folders: []string{folder}, Send: k, Every: 5 * time.Millisecond})
		assert.NoError(t, err)
		done <- told
	}()
	path := filepath.Join(folder, "office.requests.ndjson")
	for n := range 50 {
		appendTo(t, path, request(n))
		time.Sleep(2 * time.Millisecond)
	}
	_, err := follow.Run(t.Context(), follow.Config{Folders: []string{folder}, Send: k, Once: true})
	require.ErrorIs(t, err, follow.ErrInUse)
	require.Eventually(t, func() bool {
		k.mu.Lock()
		defer k.mu.Unlock()
		return len(k.order) == 1 && strings.Count(k.all(k.order[0]), `"kind":"request"`) == 50
	}, 10*time.Second, 5*time.Millisecond)
	cancel()
	told := <-done
	assert.EqualValues(t, 50, told.Requests)
	assert.EqualValues(t, 1, told.Joined)
	assert.True(t, strings.HasSuffix(k.all(k.order[0]), `"why":"recording goes on in another stream"}`+"\n"))
}
