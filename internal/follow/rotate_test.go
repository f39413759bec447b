package follow_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/follow"
)

// rotating writes one stream into a file and rotates it as log rotation does.
type rotating struct {
	*rand.Rand
	t       testing.TB
	path    string
	written bytes.Buffer
	lines   int
}

func (r *rotating) pause() { time.Sleep(time.Duration(r.IntN(3000)) * time.Microsecond) }

func (r *rotating) part(n int) string {
	if n == 0 {
		return r.path
	}
	return fmt.Sprintf("%s.%d", r.path, n)
}

// write appends some lines, at times in two halves.
func (r *rotating) write() {
	for range 1 + r.IntN(6) {
		r.lines++
		line := fmt.Sprintf(`{"ev":"open","t":%d,"scope":%d,"kind":"request","name":"GET /tides"}`+"\n", r.lines*100, r.lines)
		r.written.WriteString(line)
		if r.IntN(5) == 0 {
			half := r.IntN(len(line))
			appendTo(r.t, r.path, line[:half])
			r.pause()
			line = line[half:]
		}
		appendTo(r.t, r.path, line)
	}
}

// move makes room for a part: each is renamed to the next number.
func (r *rotating) move() {
	last := 1
	for ; exists(r.part(last)) || exists(r.part(last)+".gz"); last++ {
	}
	for n := last; n > 1; n-- {
		for _, packed := range []string{"", ".gz"} {
			if exists(r.part(n-1) + packed) {
				require.NoError(r.t, os.Rename(r.part(n-1)+packed, r.part(n)+packed))
			}
		}
	}
}

func (r *rotating) rename() {
	r.move()
	require.NoError(r.t, os.Rename(r.path, r.part(1)))
}

// truncate copies the file and starts it again.
func (r *rotating) truncate() {
	r.move()
	text, err := os.ReadFile(r.path)
	require.NoError(r.t, err)
	half := r.IntN(len(text) + 1)
	write(r.t, r.part(1), string(text[:half]))
	r.pause()
	appendTo(r.t, r.part(1), string(text[half:]))
	require.NoError(r.t, os.Truncate(r.path, 0))
}

// compress packs a part that is not packed yet, and removes it.
func (r *rotating) compress() {
	n := 1 + r.IntN(4)
	if !exists(r.part(n)) {
		return
	}
	text, err := os.ReadFile(r.part(n))
	require.NoError(r.t, err)
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	_, err = zip.Write(text)
	require.NoError(r.t, err)
	require.NoError(r.t, zip.Close())
	half := r.IntN(packed.Len())
	write(r.t, r.part(n)+".gz", string(packed.Bytes()[:half]))
	r.pause()
	appendTo(r.t, r.part(n)+".gz", string(packed.Bytes()[half:]))
	require.NoError(r.t, os.Remove(r.part(n)))
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// TestRotation has a file that grows renamed, cut, and compressed in random order and at random moments, with a service that is away at
// times: each line arrives once and in order.
func TestRotation(t *testing.T) {
	for seed := range uint64(24) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			folder, k := t.TempDir(), newTaker(t)
			r := &rotating{Rand: rand.New(rand.NewPCG(seed, 39)), t: t, path: filepath.Join(folder, "h-1.ndjson")}
			var away atomic.Bool
			k.trouble = func(string, int64) error {
				if away.Load() {
					return &follow.Later{Why: "away", After: time.Millisecond}
				}
				return nil
			}
			var stop func()
			start := func() {
				ctx, cancel := context.WithCancel(t.Context())
				ended := make(chan error, 1)
				go func() {
					told, err := follow.Run(ctx, follow.Config{Folders: []string{folder}, Send: k, Every: time.Millisecond})
					if told != nil {
						for _, trouble := range told.Trouble {
							t.Log(trouble)
						}
					}
					ended <- err
				}()
				stop = func() {
					cancel()
					require.NoError(t, <-ended)
				}
			}
			start()
			r.written.WriteString(hello("h-1"))
			appendTo(t, r.path, hello("h-1"))
			for range 60 {
				switch r.IntN(10) {
				case 0:
					r.rename()
					r.write()
				case 1:
					r.truncate()
					r.write()
				case 2, 3:
					r.compress()
				case 4:
					away.Store(!away.Load())
				case 5:
					stop()
					r.write()
					start()
				default:
					r.write()
				}
				r.pause()
			}
			r.written.WriteString(bye)
			appendTo(t, r.path, bye)
			away.Store(false)
			arrived := func() string {
				k.mu.Lock()
				defer k.mu.Unlock()
				return k.all("h-1")
			}
			assert.Eventually(t, func() bool { return arrived() == r.written.String() }, 20*time.Second, 10*time.Millisecond)
			stop()
			if got, want := arrived(), r.written.String(); got != want {
				at := 0
				for at < min(len(got), len(want)) && got[at] == want[at] {
					at++
				}
				t.Fatalf("%d bytes arrived of %d; they differ at %d: %.80q instead of %.80q", len(got), len(want), at, got[at:], want[at:])
			}
		})
	}
}

// TestOneBadFileHoldsUpNothing has a folder that is a link, a folder in it that cannot be read, a packed file of nothing but empty lines, and
// two files that begin with the same line.
func TestOneBadFileHoldsUpNothing(t *testing.T) {
	real := t.TempDir()
	folder, k := filepath.Join(t.TempDir(), "link"), newTaker(t)
	require.NoError(t, os.Symlink(real, folder))
	shut := filepath.Join(real, "a-shut")
	require.NoError(t, os.Mkdir(shut, 0o000))
	t.Cleanup(func() { _ = os.Chmod(shut, 0o700) })
	bomb, err := os.Create(filepath.Join(real, "b.ndjson.gz"))
	require.NoError(t, err)
	zip := gzip.NewWriter(bomb)
	_, err = io.WriteString(zip, hello("b"))
	require.NoError(t, err)
	blank := bytes.Repeat([]byte{'\n'}, 1<<20)
	for range 100 {
		_, err = zip.Write(blank)
		require.NoError(t, err)
	}
	require.NoError(t, zip.Close())
	require.NoError(t, bomb.Close())
	write(t, filepath.Join(real, "c.ndjson"), hello("c")+opens(1, 3)+bye)
	write(t, filepath.Join(real, "d.ndjson.1"), opens(7, 8))
	write(t, filepath.Join(real, "d.ndjson.2"), hello("d")+opens(1, 6))
	write(t, filepath.Join(real, "e.ndjson.1"), opens(7, 7)+bye)
	write(t, filepath.Join(real, "e.ndjson.2"), hello("e")+opens(1, 6))
	write(t, filepath.Join(real, "f.ndjson"), hello("c")+opens(4, 5)+bye)

	told, err := follow.Run(t.Context(), follow.Config{Folders: []string{folder}, Send: k, Once: true, Within: time.Millisecond})
	require.NoError(t, err)
	assert.Equal(t, hello("c")+opens(1, 3)+bye, k.all("c"))
	assert.Equal(t, hello("d")+opens(1, 8), k.all("d"))
	assert.Equal(t, hello("e")+opens(1, 7)+bye, k.all("e"))
	assert.Equal(t, hello("b"), k.all("b"), "empty lines are no lines")
	trouble := fmt.Sprint(told.Trouble)
	if os.Getuid() != 0 {
		assert.Contains(t, trouble, "a-shut")
	}
	assert.Contains(t, trouble, "f.ndjson begins with the same line as "+filepath.Join(folder, "c.ndjson"))
}
