package freeze

import (
	"reflect"
	"sync"
	"time"
	"unsafe"
)

// plan is how the values of one type are packed: step by step, what lies in them, however deep it is nested.
//
// What has one step is written as it is. What has several comes in groups of eight, each after a byte that tells which of
// them are not zero: most fields of most values are, and are neither written nor looked at when they are unpacked.
type plan struct {
	of    reflect.Type
	once  sync.Once // steps are made when they are needed: pointers lead to much that is never packed
	steps []step
}

// group is how many steps share a byte.
const group = 8

type step struct {
	kind kind
	at   uintptr      // from the value's start, bytes
	of   reflect.Type // of a slice, a map, an interface or what cannot be packed
	key  *plan        // of a map's keys
	elem *plan        // of what is pointed to, of elements, of a map's values
	n    int          // elements of an array
	size uintptr      // of an element, bytes
}

type kind uint8

const (
	unsigned8 kind = iota
	unsigned16
	unsigned32
	unsigned64
	signed8
	signed16
	signed32
	signed64
	bools
	float64s
	texts
	pointers
	lists
	arrays
	mappings
	interfaces
	times
	others // no way to pack them
)

// longest is the longest array whose elements are steps of what it lies in.
const longest = 16

var (
	plans    sync.Map // of reflect.Type
	timeType = reflect.TypeFor[time.Time]()
	kinds    = map[reflect.Kind]kind{
		reflect.Bool: bools, reflect.Uint8: unsigned8, reflect.Uint16: unsigned16, reflect.Uint32: unsigned32,
		reflect.Uint64: unsigned64, reflect.Uint: unsigned64, reflect.Int8: signed8, reflect.Int16: signed16,
		reflect.Int32: signed32, reflect.Int64: signed64, reflect.Int: signed64, reflect.Float64: float64s,
		reflect.String: texts,
	}
)

// The word of this machine has to be one of 64 bits.
var _ = [1]struct{}{}[unsafe.Sizeof(0)-8]

func planOf(t reflect.Type) *plan {
	if p, ok := plans.Load(t); ok {
		return p.(*plan)
	}
	p, _ := plans.LoadOrStore(t, &plan{of: t})
	return p.(*plan)
}

func (p *plan) ready() []step {
	p.once.Do(func() { p.steps = appendSteps(nil, p.of, 0) })
	return p.steps
}

// appendSteps adds those of a value of type t that begins at so many bytes.
func appendSteps(steps []step, t reflect.Type, at uintptr) []step {
	s := step{at: at, of: t}
	switch k := t.Kind(); {
	case t == timeType:
		s.kind = times
	case k == reflect.Func, k == reflect.Chan:
		return steps
	case k == reflect.Struct:
		for f := range t.Fields() {
			if f.Tag.Get("freeze") != "-" {
				steps = appendSteps(steps, f.Type, at+f.Offset)
			}
		}
		return steps
	case k == reflect.Array && t.Len() <= longest:
		for n := range t.Len() {
			steps = appendSteps(steps, t.Elem(), at+uintptr(n)*t.Elem().Size())
		}
		return steps
	case k == reflect.Array:
		s.kind, s.elem, s.n, s.size = arrays, planOf(t.Elem()), t.Len(), t.Elem().Size()
	case k == reflect.Pointer:
		s.kind, s.elem = pointers, planOf(t.Elem())
	case k == reflect.Slice:
		s.kind, s.elem, s.size = lists, planOf(t.Elem()), t.Elem().Size()
	case k == reflect.Map:
		s.kind, s.key, s.elem = mappings, planOf(t.Key()), planOf(t.Elem())
	case k == reflect.Interface:
		s.kind = interfaces
	default:
		simple, ok := kinds[k]
		if !ok {
			simple = others
		}
		s.kind = simple
	}
	return append(steps, s)
}

// clear sets what the plan fills to zero, and leaves the rest as it is.
func (p *plan) clear(at unsafe.Pointer) {
	for n := range p.ready() {
		s := &p.steps[n]
		to := unsafe.Add(at, s.at)
		switch s.kind {
		case unsigned8, signed8, bools:
			*(*uint8)(to) = 0
		case unsigned16, signed16:
			*(*uint16)(to) = 0
		case unsigned32, signed32:
			*(*uint32)(to) = 0
		case unsigned64, signed64, float64s:
			*(*uint64)(to) = 0
		case texts:
			*(*string)(to) = ""
		case pointers, mappings:
			*(*unsafe.Pointer)(to) = nil
		case lists:
			*(*[]struct{})(to) = nil
		case arrays:
			for k := range s.n {
				s.elem.clear(unsafe.Add(to, uintptr(k)*s.size))
			}
		case interfaces:
			*(*any)(to) = nil
		case times:
			*(*time.Time)(to) = time.Time{}
		case others:
		}
	}
}

// zero tells whether there is nothing to pack at a place.
func (s *step) zero(at unsafe.Pointer) bool {
	switch s.kind {
	case unsigned8, signed8, bools:
		return *(*uint8)(at) == 0
	case unsigned16, signed16:
		return *(*uint16)(at) == 0
	case unsigned32, signed32:
		return *(*uint32)(at) == 0
	case unsigned64, signed64, float64s: // of the two zeros of floating point, the positive one
		return *(*uint64)(at) == 0
	case texts:
		return *(*string)(at) == ""
	case pointers, mappings, lists, interfaces: // their first word
		return *(*unsafe.Pointer)(at) == nil
	case arrays:
		for k := range s.n {
			for n := range s.elem.ready() {
				if e := &s.elem.steps[n]; !e.zero(unsafe.Add(at, uintptr(k)*s.size+e.at)) {
					return false
				}
			}
		}
		return true
	case times:
		return *(*time.Time)(at) == time.Time{}
	}
	return false
}
