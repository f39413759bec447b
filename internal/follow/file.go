package follow

import (
	"bufio"
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/follow/regular"
)

// A file of a stream is named NAME.ndjson. What rotates it may add a number behind that, and compress it. In
// NAME.requests.ndjson stand streams of one request each, one after the other.
var named = regexp.MustCompile(`^(.+?)(\.requests)?\.ndjson(?:\.(\d+))?(\.gz|\.zst)?$`)

// found is a file that a recorder wrote.
type found struct {
	path, base string
	requests   bool // it holds streams of one request each
	part       int  // of a rotated one: the higher, the older; 0: it is being written
	packed     bool // it is compressed, and grows no more
	size       int64
	changed    time.Time
	file       regular.ID
}

// list returns the files of a folder and of the folders in it, the parts of a stream from the oldest on. It reports unreadable
// folders to trouble.
func list(folder string, trouble func(format string, args ...any)) ([]found, error) {
	var all []found
	root, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", folder, err)
	}
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			if path == root {
				return err
			}
			if !errors.Is(err, fs.ErrNotExist) { // else it has just gone
				trouble("look into %s: %v", path, err)
			}
			return nil
		}
		if d.IsDir() && path != root && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		if f := foundAt(filepath.Join(folder, strings.TrimPrefix(path, root)), d); f != nil {
			all = append(all, *f)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", folder, err)
	}
	slices.SortStableFunc(all, byPart)
	return all, nil
}

// partsOf returns the files of one stream, the oldest first.
func partsOf(base string) ([]found, error) {
	folder, name := filepath.Split(base)
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("look into %s: %w", folder, err)
	}
	var all []found
	for _, d := range entries {
		if !strings.HasPrefix(d.Name(), name+".ndjson") {
			continue
		}
		if f := foundAt(filepath.Join(folder, d.Name()), d); f != nil && f.base == base {
			all = append(all, *f)
		}
	}
	slices.SortStableFunc(all, byPart)
	return all, nil
}

// foundAt returns a file by its name, nil where that is not a recorder's, or where the file does not exist any more.
func foundAt(path string, d fs.DirEntry) *found {
	name := named.FindStringSubmatch(d.Name())
	if name == nil || !d.Type().IsRegular() {
		return nil
	}
	info, err := d.Info()
	if err != nil {
		return nil
	}
	f := found{path: path, base: filepath.Join(filepath.Dir(path), name[1]+name[2]), requests: name[2] != "", packed: name[4] != "", size: info.Size(), changed: info.ModTime(), file: regular.IDOf(info)}
	f.part, _ = strconv.Atoi(name[3])
	return &f
}

// byPart orders files by their streams, and the parts of a stream from the oldest on.
func byPart(a, b found) int {
	return cmp.Or(strings.Compare(a.base, b.base), b.part-a.part)
}

// The bounds of what is read at once.
const (
	pieceBytes = 256 << 10
	maxLine    = 4 << 20 // a longer one is passed over
)

// lines reads the whole lines of a file from a place on.
type lines struct {
	file   *os.File
	packed bool
	in     *bufio.Reader
	at     int64 // bytes that were given out
	rest   int   // bytes of a last line that is not whole
	long   int   // lines that were passed over

	id     string // see idOf; "" before the first seek
	of     regular.ID
	begin  []byte // its first line
	turn   int64  // where its turn ends
	failed error  // why it could not be read on
}

// open opens the file that was listed.
func (f *found) open(flag int) (*os.File, error) { return regular.Open(f.path, f.file, flag) }

// openLines opens a file. The caller closes what it gets.
func openLines(f *found) (*lines, error) {
	file, err := f.open(os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	l := &lines{file: file, packed: f.packed}
	if !f.packed {
		l.in = bufio.NewReaderSize(file, pieceBytes)
		return l, nil
	}
	plain, err := reader.Decompress(file)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", f.path, err), file.Close())
	}
	l.in = bufio.NewReaderSize(plain, pieceBytes)
	return l, nil
}

// Close closes the file.
func (l *lines) Close() error { return l.file.Close() }

// first returns the first line, nil while it is not whole.
func (l *lines) first() []byte {
	line, err := l.in.ReadSlice('\n')
	if err != nil {
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil
		}
		return bytes.Clone(line) // of one that is longer, the beginning says enough
	}
	return bytes.Clone(line)
}

// idOf returns a file's id, which does not depend on the file's current name: a hash of its hello, which names the stream, or of another first
// line and the base that all parts of a stream have in common.
func idOf(base string, first []byte) string {
	if !isKind(first, "hello") && base != "" {
		first = append([]byte(base+"\n"), first...)
	}
	sum := sha256.Sum256(first)
	return hex.EncodeToString(sum[:16])
}

// replaced reports whether the file was truncated since it was opened, and perhaps written again.
func (l *lines) replaced() bool {
	if l.packed {
		return false
	}
	now := make([]byte, len(l.begin))
	if _, err := l.file.ReadAt(now, 0); err != nil || !bytes.Equal(now, l.begin) {
		return true
	}
	info, err := l.file.Stat()
	return err != nil || info.Size() < l.at
}

// seek goes to a place, from the beginning. It returns false where the file is shorter than that.
func (l *lines) seek(f *found, at int64) (bool, error) {
	if _, err := l.file.Seek(0, io.SeekStart); err != nil {
		return false, fmt.Errorf("read %s: %w", f.path, err)
	}
	l.at = at
	if f.packed {
		plain, err := reader.Decompress(l.file)
		if err != nil {
			return false, fmt.Errorf("open %s: %w", f.path, err)
		}
		l.in.Reset(plain)
		n, err := io.CopyN(io.Discard, l.in, at)
		if errors.Is(err, io.EOF) {
			return n == at, nil
		}
		if err != nil {
			return false, fmt.Errorf("read %s: %w", f.path, err)
		}
		return true, nil
	}
	if f.size < at {
		return false, nil
	}
	if _, err := l.file.Seek(at, io.SeekStart); err != nil {
		return false, fmt.Errorf("read %s: %w", f.path, err)
	}
	l.in.Reset(l.file)
	return true, nil
}

// line returns the next whole line with its newline, nil where there is none yet. It is good until the next call.
func (l *lines) line() ([]byte, error) {
	var long []byte
	passed := 0
	for {
		part, err := l.in.ReadSlice('\n')
		switch {
		case err == nil && passed > 0:
			l.at += int64(passed + len(part))
			l.long++
			passed = 0
			continue
		case err == nil && long == nil:
			l.at += int64(len(part))
			return part, nil
		case err == nil:
			long = append(long, part...)
			l.at += int64(len(long))
			return long, nil
		case errors.Is(err, bufio.ErrBufferFull):
			if passed > 0 || len(long)+len(part) > maxLine {
				passed += len(long) + len(part)
				long = nil
				continue
			}
			long = append(long, part...)
		case errors.Is(err, io.EOF):
			l.rest = passed + len(long) + len(part)
			return nil, nil
		default:
			return nil, err
		}
	}
}
