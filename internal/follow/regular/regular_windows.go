package regular

import (
	"io/fs"
	"os"
	"syscall"
)

// The index of a file on its volume is known only while the file is open.
func idOf(fs.FileInfo) ID { return 0 }

// A reparse point, such as a link, is opened itself: it is no regular file then.
func open(path string, flag int) (*os.File, error) {
	name, err := syscall.UTF16PtrFromString(path)
	if err != nil {
		return nil, err
	}
	access := uint32(syscall.GENERIC_READ)
	if flag&os.O_RDWR != 0 {
		access |= syscall.GENERIC_WRITE
	}
	share := uint32(syscall.FILE_SHARE_READ | syscall.FILE_SHARE_WRITE | syscall.FILE_SHARE_DELETE)
	handle, err := syscall.CreateFile(name, access, share, nil, syscall.OPEN_EXISTING, syscall.FILE_ATTRIBUTE_NORMAL|syscall.FILE_FLAG_OPEN_REPARSE_POINT, 0)
	if err != nil {
		return nil, err
	}
	return os.NewFile(uintptr(handle), path), nil
}

// Windows refuses to delete a file that a writer has open, unless the writer allows it: no lock is needed.
func remove(file *os.File, unchanged func(fs.FileInfo) bool) (bool, error) {
	info, err := file.Stat()
	if closed := file.Close(); err != nil || closed != nil || !unchanged(info) {
		return false, nil //nolint:nilerr // it has grown, or is gone
	}
	if err := os.Remove(file.Name()); err != nil {
		return false, err
	}
	return true, nil
}
