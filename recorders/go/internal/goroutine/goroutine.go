// Package goroutine identifies goroutines. Container libraries call hooks and constructors without a context; on which
// goroutine they do so says within what they do it.
package goroutine

// ID returns a number that no other goroutine has that is alive at the same time. A goroutine that has ended may hand its
// number on to a new one, so values stored by it must be removed before the goroutine ends.
func ID() uintptr { return id() }
