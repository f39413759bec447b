package follow

import (
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOpensWhatWasListed checks that something else that has taken a file's place since is not opened, and nothing is waited for.
func TestOpensWhatWasListed(t *testing.T) {
	for name, put := range map[string]func(path string) error{
		"nothing":          func(string) error { return nil },
		"another file":     func(path string) error { return os.WriteFile(path, []byte("other"), 0o600) },
		"a FIFO":           func(path string) error { return syscall.Mkfifo(path, 0o600) },
		"a link elsewhere": func(path string) error { return os.Symlink("/etc/hostname", path) },
		"a link to itself": func(path string) error { return os.Symlink(path+".old", path) },
		"a folder":         func(path string) error { return os.Mkdir(path, 0o700) },
	} {
		t.Run(name, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "office.ndjson")
			require.NoError(t, os.WriteFile(path, []byte("a line\n"), 0o600))
			all, err := list(filepath.Dir(path), t.Logf)
			require.NoError(t, err)
			require.Len(t, all, 1)
			l, err := openLines(&all[0])
			require.NoError(t, err)
			require.Equal(t, "a line\n", string(l.first()))
			require.NoError(t, l.Close())
			require.NoError(t, os.Rename(path, path+".old")) // so that its number is not given to another
			require.NoError(t, put(path))
			done := make(chan error, 1)
			go func() {
				_, err := openLines(&all[0])
				done <- err
			}()
			select {
			case err := <-done:
				assert.ErrorIs(t, err, fs.ErrNotExist)
			case <-time.After(5 * time.Second):
				t.Fatal("it waits")
			}
		})
	}
}
