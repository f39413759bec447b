//go:build (!amd64 && !arm64) || purego

package goroutine

import (
	"bytes"
	"runtime"
	"strconv"
)

// id reads the number from the first line of the goroutine's stack, "goroutine 17 [running]:". It takes some 10 µs.
func id() uintptr {
	var line [64]byte
	text := line[:runtime.Stack(line[:], false)]
	text = bytes.TrimPrefix(text, []byte("goroutine "))
	number, _, _ := bytes.Cut(text, []byte(" "))
	n, err := strconv.ParseUint(string(number), 10, 64)
	if err != nil {
		return 0 // all goroutines look alike then, as they do where there is one
	}
	return uintptr(n)
}
