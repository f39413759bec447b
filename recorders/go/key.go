package record

import (
	"fmt"
	"reflect"
	"strings"
	"sync"
	"weak"
)

// keyNumbers number the objects that are used as keys.
type keyNumbers struct {
	mu   sync.Mutex
	seen map[any]int
}

// maxKeyObjects is how many objects that are used as keys are distinguished.
const maxKeyObjects = 4096

// KeyText returns how a trace writes a key of any type: a text as it is, anything else as its type in parentheses and its value, so
// that keys which differ never look alike. An object is numbered in the order in which this recorder meets it: what it prints of
// itself, which may hold anything, is never asked for. A pointer, channel or comparable struct is an object; so is everything that
// may not be compared, which is written without a number.
func (r *Recorder) KeyText(key any) string {
	switch k := key.(type) {
	case nil:
		return "(nil)"
	case string:
		if strings.HasPrefix(k, "(") {
			return "(text) " + k
		}
		return k
	case reflect.Type:
		return "(type) " + k.String()
	}
	v := reflect.ValueOf(key)
	named := "(" + v.Type().String() + ")"
	switch v.Kind() {
	case reflect.String:
		return named + " " + v.String()
	case reflect.Bool:
		return fmt.Sprintf("%s %t", named, v.Bool())
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return fmt.Sprintf("%s %d", named, v.Int())
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64, reflect.Uintptr:
		return fmt.Sprintf("%s %d", named, v.Uint())
	case reflect.Float32, reflect.Float64:
		return fmt.Sprintf("%s %v", named, v.Float())
	}
	if r == nil || !v.Comparable() {
		return named
	}
	if v.Kind() == reflect.Pointer {
		key = weak.Make((*byte)(v.UnsafePointer())) // the recorder keeps nothing alive
	}
	r.keys.mu.Lock()
	defer r.keys.mu.Unlock()
	n, known := r.keys.seen[key]
	if !known {
		if len(r.keys.seen) == maxKeyObjects {
			return named
		}
		if r.keys.seen == nil {
			r.keys.seen = map[any]int{}
		}
		n = len(r.keys.seen) + 1
		r.keys.seen[key] = n
	}
	return fmt.Sprintf("%s #%d", named, n)
}
