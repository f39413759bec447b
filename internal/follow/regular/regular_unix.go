//go:build unix

package regular

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

func idOf(info fs.FileInfo) ID {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return ID(s.Ino)
	}
	return 0
}

func open(path string, flag int) (*os.File, error) {
	file, err := os.OpenFile(path, flag|syscall.O_NONBLOCK|syscall.O_NOFOLLOW, 0)
	if errors.Is(err, syscall.ELOOP) {
		return nil, fs.ErrNotExist // it is a link
	}
	return file, err
}

// A writer holds the file's lock while it appends: the file is deleted between two appends.
func remove(file *os.File, unchanged func(fs.FileInfo) bool) (bool, error) {
	defer file.Close()
	if syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil {
		return false, nil
	}
	info, err := file.Stat()
	if err != nil || !unchanged(info) {
		return false, nil //nolint:nilerr // it has grown, or is gone
	}
	if err := os.Remove(file.Name()); err != nil {
		return false, err
	}
	return true, nil
}
