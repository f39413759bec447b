package freeze

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"reflect"
	"time"
	"unsafe"
)

// unpacker reads. It does not panic on any bytes and makes nothing larger than they are.
type unpacker struct {
	b       []byte
	objects []object
	strings []string
	types   []reflect.Type
	fits    map[fit]*plan
	err     error
}

// fit is that a type may stand in the interface of a step. What is kept is its plan, or the one of what it points to.
type fit struct {
	step *step
	n    uint64 // of the type, from 1
}

// value fills a value of a plan's type, which is zero as yet.
func (u *unpacker) value(pl *plan, at unsafe.Pointer) {
	steps := pl.ready()
	if len(steps) == 1 {
		u.b = u.step(&steps[0], unsafe.Add(at, steps[0].at), u.b)
		return
	}
	b := u.b
	for ; len(steps) > 0; steps = steps[min(group, len(steps)):] {
		if len(b) == 0 {
			u.b = u.damaged()
			return
		}
		there := b[0]
		b = b[1:]
		for ; there != 0; there &= there - 1 {
			n := bits.TrailingZeros8(there)
			if n >= len(steps) {
				u.b = u.damaged()
				return
			}
			b = u.step(&steps[n], unsafe.Add(at, steps[n].at), b)
		}
	}
	u.b = b
}

// step fills what one step of a plan does, from the start of b, and returns the rest.
func (u *unpacker) step(s *step, at unsafe.Pointer, b []byte) []byte {
	if s.kind < float64s {
		var v uint64
		switch {
		case len(b) > 0 && b[0] < wide:
			v, b = uint64(b[0]), b[1:]
		case len(b) > 8 && b[0]-wide-1 < 8:
			n := int(b[0] - wide)
			v, b = low(binary.LittleEndian.Uint64(b[1:]), n), b[1+n:]
		default:
			v, b = u.wide(b)
		}
		s.store(at, v)
		return b
	}
	u.b = b
	switch s.kind {
	case float64s:
		if len(b) < 8 {
			return u.damaged()
		}
		*(*uint64)(at) = binary.LittleEndian.Uint64(b)
		return b[8:]
	case texts:
		*(*string)(at) = u.text()
	case pointers:
		*(*unsafe.Pointer)(at) = u.pointer(s.elem)
	case lists:
		u.slice(s, at)
	case arrays:
		for k := 0; k < s.n && u.err == nil; k++ {
			u.value(s.elem, unsafe.Add(at, uintptr(k)*s.size))
		}
	case mappings:
		u.mapping(s, at)
	case interfaces:
		u.dynamic(s, at)
	case times:
		if err := (*time.Time)(at).UnmarshalBinary([]byte(u.text())); err != nil {
			u.damaged()
		}
	default:
		u.damaged()
	}
	return u.b
}

func (u *unpacker) slice(s *step, at unsafe.Pointer) {
	n, ok := u.count()
	if !ok {
		return
	}
	var first unsafe.Pointer
	switch k := s.elem.of.Kind(); {
	case k == reflect.Pointer: // those two need no slice header on the heap, as reflect makes one
		list := make([]unsafe.Pointer, n)
		*(*[]unsafe.Pointer)(at) = list
		first = unsafe.Pointer(unsafe.SliceData(list))
	case k == reflect.String:
		list := make([]string, n)
		*(*[]string)(at) = list
		first = unsafe.Pointer(unsafe.SliceData(list))
	default:
		v := reflect.MakeSlice(s.of, n, n)
		reflect.NewAt(s.of, at).Elem().Set(v)
		first = v.UnsafePointer()
	}
	for k := 0; k < n && u.err == nil; k++ {
		u.value(s.elem, unsafe.Add(first, uintptr(k)*s.size))
	}
}

func (u *unpacker) mapping(s *step, at unsafe.Pointer) {
	n, ok := u.count()
	if !ok {
		return
	}
	v := reflect.MakeMapWithSize(s.of, n)
	k, e := reflect.New(s.of.Key()), reflect.New(s.of.Elem())
	for range n {
		k.Elem().SetZero()
		e.Elem().SetZero()
		u.value(s.key, k.UnsafePointer())
		u.value(s.elem, e.UnsafePointer())
		if u.err != nil {
			return
		}
		v.SetMapIndex(k.Elem(), e.Elem())
	}
	reflect.NewAt(s.of, at).Elem().Set(v)
}

func (u *unpacker) dynamic(s *step, at unsafe.Pointer) {
	n := u.number()
	if n == 0 {
		return
	}
	if n > uint64(len(u.types)) {
		u.damaged()
		return
	}
	of := u.types[n-1]
	pointer := of.Kind() == reflect.Pointer
	pl := u.fits[fit{s, n}]
	if pl == nil { // it takes long to find out
		switch {
		case !of.AssignableTo(s.of):
			u.damaged()
			return
		case pointer:
			pl = planOf(of.Elem())
		default:
			pl = planOf(of)
		}
		u.fits[fit{s, n}] = pl
	}
	var v reflect.Value
	if pointer {
		v = reflect.NewAt(pl.of, u.pointer(pl))
	} else {
		p := reflect.New(of)
		u.value(pl, p.UnsafePointer())
		v = p.Elem()
	}
	if u.err == nil {
		reflect.NewAt(s.of, at).Elem().Set(v)
	}
}

// damaged notes that the bytes are not what was packed, and leaves none of them.
func (u *unpacker) damaged() []byte {
	if u.err == nil {
		u.err = fmt.Errorf("freeze: %w", errDamaged)
	}
	u.b = nil
	return nil
}

func (u *unpacker) number() uint64 {
	if len(u.b) > 0 && u.b[0] < wide {
		v := uint64(u.b[0])
		u.b = u.b[1:]
		return v
	}
	v, rest := u.wide(u.b)
	u.b = rest
	return v
}

// wide reads a number of several bytes, and returns what follows.
func (u *unpacker) wide(b []byte) (uint64, []byte) {
	if len(b) == 0 || b[0] < wide {
		return 0, u.damaged()
	}
	n := int(b[0] - wide)
	b = b[1:]
	if n < 1 || n > 8 || n > len(b) {
		return 0, u.damaged()
	}
	var whole [8]byte
	copy(whole[:], b)
	return low(binary.LittleEndian.Uint64(whole[:]), n), b[n:]
}

// low returns the lowest n bytes, 1 to 8, of v.
func low(v uint64, n int) uint64 { return v & (^uint64(0) >> (64 - 8*n)) }

// count reads how many there are of something that takes a byte each; ok is false when it is nil.
func (u *unpacker) count() (n int, ok bool) {
	v := u.number()
	if v > uint64(len(u.b))+1 {
		u.damaged()
		return 0, false
	}
	return int(v) - 1, v > 0
}

func (u *unpacker) text() string {
	switch n := u.number(); n {
	case 0:
		return ""
	case 1:
		length := u.number()
		if length > uint64(len(u.b)) {
			u.damaged()
			return ""
		}
		s := string(u.b[:length])
		u.b = u.b[length:]
		u.strings = append(u.strings, s)
		return s
	default:
		if n-2 >= uint64(len(u.strings)) {
			u.damaged()
			return ""
		}
		return u.strings[n-2]
	}
}

// pointer returns what is pointed to, made here if it is the first time.
func (u *unpacker) pointer(of *plan) unsafe.Pointer {
	n := u.number()
	switch {
	case n == 0:
		return nil
	case n == 1:
		o := object{reflect.New(of.of).UnsafePointer(), of}
		u.objects = append(u.objects, o)
		return o.at
	case n-2 < uint64(len(u.objects)) && u.objects[n-2].of == of:
		return u.objects[n-2].at
	}
	u.damaged()
	return nil
}
