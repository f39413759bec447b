//go:build (amd64 || arm64) && !purego

package goroutine

// id returns the address of what the runtime keeps for the running goroutine.
func id() uintptr
