package freeze

import (
	"reflect"
	"sync"
	"time"
	"unsafe"
)

// plan is how the values of one type are packed: step by step, what lies in them, however deep it is nested.
//
// What has one step is written as it is. What has several comes in groups of eight, each after a byte that marks which of
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
	of   reflect.Type // of what is packed
	key  *plan        // of a map's keys
	elem *plan        // of what is pointed to, of elements, of a map's values
	n    int          // elements of an array
	size uintptr      // of an element, bytes
}

type kind uint8

// Those before float64s are whole numbers.
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
	for _, s := range p.ready() {
		to := unsafe.Add(at, s.at)
		if s.kind != arrays {
			reflect.NewAt(s.of, to).Elem().SetZero()
			continue
		}
		for k := range s.n { // something in its elements may stay
			s.elem.clear(unsafe.Add(to, uintptr(k)*s.size))
		}
	}
}

// zero reports whether there is nothing to pack at a place.
func (s *step) zero(at unsafe.Pointer) bool {
	if s.kind < float64s {
		return s.load(at) == 0
	}
	switch s.kind {
	case float64s: // of the two zeros of floating point, the positive one
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

// load returns a whole number as it is written: 0 for 0, and what is near it, on both sides, small.
func (s *step) load(at unsafe.Pointer) uint64 {
	switch s.kind {
	case unsigned8, bools:
		return uint64(*(*uint8)(at))
	case unsigned16:
		return uint64(*(*uint16)(at))
	case unsigned32:
		return uint64(*(*uint32)(at))
	case unsigned64:
		return *(*uint64)(at)
	case signed8:
		return zigzag(int64(*(*int8)(at)))
	case signed16:
		return zigzag(int64(*(*int16)(at)))
	case signed32:
		return zigzag(int64(*(*int32)(at)))
	case signed64:
		return zigzag(*(*int64)(at))
	}
	panic("freeze: not a whole number")
}

// store is load's other way.
func (s *step) store(at unsafe.Pointer, v uint64) {
	switch s.kind {
	case unsigned8:
		*(*uint8)(at) = uint8(v)
	case unsigned16:
		*(*uint16)(at) = uint16(v)
	case unsigned32:
		*(*uint32)(at) = uint32(v)
	case unsigned64:
		*(*uint64)(at) = v
	case signed8:
		*(*int8)(at) = int8(unzigzag(v))
	case signed16:
		*(*int16)(at) = int16(unzigzag(v))
	case signed32:
		*(*int32)(at) = int32(unzigzag(v))
	case signed64:
		*(*int64)(at) = unzigzag(v)
	case bools: // nothing but the two bytes that a bool may be
		*(*bool)(at) = v == 1
	}
}

func zigzag(v int64) uint64   { return uint64(v)<<1 ^ uint64(v>>63) }
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }
