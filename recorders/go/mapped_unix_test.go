//go:build unix

package record_test

import (
	"syscall"
	"testing"
)

// mapped returns memory that the runtime does not manage, until the test's end.
func mapped(t *testing.T) []byte {
	t.Helper()
	memory, err := syscall.Mmap(-1, 0, 4096, syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_ANON|syscall.MAP_PRIVATE)
	must(t, err)
	t.Cleanup(func() { must(t, syscall.Munmap(memory)) })
	return memory
}
