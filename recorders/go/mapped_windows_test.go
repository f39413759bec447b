package record_test

import (
	"syscall"
	"testing"
	"unsafe"
)

// mapped returns memory that the runtime does not manage, until the test's end.
func mapped(t *testing.T) []byte {
	t.Helper()
	mapping, err := syscall.CreateFileMapping(syscall.InvalidHandle, nil, syscall.PAGE_READWRITE, 0, 4096, nil)
	must(t, err)
	t.Cleanup(func() { must(t, syscall.CloseHandle(mapping)) })
	address, err := syscall.MapViewOfFile(mapping, syscall.FILE_MAP_WRITE, 0, 0, 4096)
	must(t, err)
	t.Cleanup(func() { must(t, syscall.UnmapViewOfFile(address)) })
	return unsafe.Slice((*byte)(*(*unsafe.Pointer)(unsafe.Pointer(&address))), 4096)
}
