package record

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Pack compresses what is written to it.
type Pack func(io.Writer) (io.WriteCloser, error)

// FileOption is how a file is created.
type FileOption int

// Replace lets a file take the place of one that is there already.
const Replace FileOption = 1

// File creates a file to record to: Config.Output takes it, and it is closed after the Recorder is. What ends in .gz is
// compressed; for other endings, Packs sets how, by the ending: ".zst" with github.com/klauspost/compress/zstd, say,
// which this package does not depend on. A file that is there already is an error, unless Replace is given.
func File(path string, packs map[string]Pack, how ...FileOption) (io.WriteCloser, error) {
	ending := strings.ToLower(filepath.Ext(path))
	pack := packs[ending]
	switch {
	case pack != nil:
	case ending == ".gz":
		pack = func(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }
	case ending == ".zst":
		return nil, fmt.Errorf("record to %s: no Pack for %s was given", path, ending)
	}
	flags := os.O_WRONLY | os.O_CREATE | os.O_EXCL
	if slices.Contains(how, Replace) {
		flags = os.O_WRONLY | os.O_CREATE | os.O_TRUNC
	}
	file, err := os.OpenFile(path, flags, 0o600)
	if err != nil {
		return nil, fmt.Errorf("record to a file: %w", err)
	}
	if pack == nil {
		return file, nil
	}
	packed, err := pack(file)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("record to %s: %w", path, err), file.Close())
	}
	return packedFile{packed, file}, nil
}

type packedFile struct {
	io.WriteCloser
	file *os.File
}

// Close ends the compression and closes the file.
func (f packedFile) Close() error { return errors.Join(f.WriteCloser.Close(), f.file.Close()) }
