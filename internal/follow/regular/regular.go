// Package regular opens the regular files of a folder into which other users may write, on each operating system.
package regular

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// ID identifies a file for as long as it exists: its inode number, 0 on systems that have none without opening it.
type ID uint64

// IDOf returns the ID of a file.
func IDOf(info fs.FileInfo) ID { return idOf(info) }

// Open opens a regular file with the ID that it had when it was listed, and never waits. The error is fs.ErrNotExist where a link, a
// FIFO or another file has taken its place.
func Open(path string, id ID, flag int) (*os.File, error) {
	file, err := open(path, flag)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	info, err := file.Stat()
	if err == nil && (!info.Mode().IsRegular() || IDOf(info) != id) {
		err = fs.ErrNotExist
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open %s: %w", path, err), file.Close())
	}
	return file, nil
}

// Remove deletes an open file unless a writer holds it or unchanged, asked once no writer can, returns false. It closes the file, and
// reports whether it was deleted.
func Remove(file *os.File, unchanged func(fs.FileInfo) bool) (bool, error) {
	return remove(file, unchanged)
}
