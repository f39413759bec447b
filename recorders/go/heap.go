package record

import (
	"reflect"
	"runtime"
	"unsafe"
)

// The runtime ends the process when it is asked to watch memory that it did not allocate: mapped files, C memory, package
// variables. It has no function that recognises such memory, but a Pinner takes a pointer to any memory and holds on to
// those to its own heap only; how many it holds can be read by reflection. Where a later runtime looks different inside,
// that is noticed once, and nothing is watched.

// onHeap reports whether p points into memory that the runtime manages, and so can watch.
func onHeap(p unsafe.Pointer) bool { return canTell && pinned(p) }

// canTell is whether pinned answers what is asked here.
var canTell = func() bool {
	return safely(func() bool {
		return pinned(unsafe.Pointer(new([4]int))) && !pinned(unsafe.Pointer(&outside))
	})
}()

var outside [4]int // a package variable is on no heap

// pinned reports whether a Pinner holds on to p.
func pinned(p unsafe.Pointer) bool {
	var pin runtime.Pinner
	pin.Pin(p)
	defer pin.Unpin()
	return reflect.ValueOf(&pin).Elem().Field(0).Elem().Field(0).Len() > 0
}

// safely returns what f does, false if it panics.
func safely(f func() bool) (ok bool) {
	defer func() {
		if recover() != nil {
			ok = false
		}
	}()
	return f()
}
