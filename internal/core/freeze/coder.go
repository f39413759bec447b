package freeze

import (
	"encoding/binary"
	"fmt"
	"math"
	"reflect"
	"sync"
	"time"
	"unsafe"
)

// coder packs and unpacks values of one type, given where they are.
type coder struct {
	pack   func(p *packer, at unsafe.Pointer)
	unpack func(u *unpacker, at unsafe.Pointer)
}

var (
	coders   sync.Map   // of reflect.Type
	building sync.Mutex // one at a time, so that a type that holds itself is met half built by its builder only
	timeType = reflect.TypeFor[time.Time]()
)

func coderOf(t reflect.Type) *coder {
	if c, ok := coders.Load(t); ok {
		return c.(*coder)
	}
	building.Lock()
	defer building.Unlock()
	fresh := map[reflect.Type]*coder{}
	c := build(t, fresh)
	for t, c := range fresh {
		coders.LoadOrStore(t, c)
	}
	return c
}

// build makes the coder of a type and of all that lie in it. What is behind a pointer is looked up when it is met.
func build(t reflect.Type, fresh map[reflect.Type]*coder) *coder {
	if c, ok := coders.Load(t); ok {
		return c.(*coder)
	}
	if c := fresh[t]; c != nil {
		return c
	}
	c := &coder{}
	fresh[t] = c
	switch kind := t.Kind(); {
	case t == timeType:
		c.pack, c.unpack = packTime, unpackTime
	case kind == reflect.Func, kind == reflect.Chan:
		c.pack, c.unpack = func(*packer, unsafe.Pointer) {}, func(*unpacker, unsafe.Pointer) {}
	case kind == reflect.Bool:
		number(c, func(v bool) uint64 {
			if v {
				return 1
			}
			return 0
		}, func(v uint64) bool { return v == 1 })
	case kind == reflect.Int:
		signed[int](c)
	case kind == reflect.Int8:
		signed[int8](c)
	case kind == reflect.Int16:
		signed[int16](c)
	case kind == reflect.Int32:
		signed[int32](c)
	case kind == reflect.Int64:
		signed[int64](c)
	case kind == reflect.Uint:
		unsigned[uint](c)
	case kind == reflect.Uint8:
		unsigned[uint8](c)
	case kind == reflect.Uint16:
		unsigned[uint16](c)
	case kind == reflect.Uint32:
		unsigned[uint32](c)
	case kind == reflect.Uint64:
		unsigned[uint64](c)
	case kind == reflect.Float64:
		c.pack = func(p *packer, at unsafe.Pointer) {
			p.b = binary.LittleEndian.AppendUint64(p.b, math.Float64bits(*(*float64)(at)))
		}
		c.unpack = func(u *unpacker, at unsafe.Pointer) { *(*float64)(at) = u.float() }
	case kind == reflect.String:
		c.pack = func(p *packer, at unsafe.Pointer) { p.text(*(*string)(at)) }
		c.unpack = func(u *unpacker, at unsafe.Pointer) { *(*string)(at) = u.text() }
	case kind == reflect.Pointer:
		of := t.Elem()
		c.pack = func(p *packer, at unsafe.Pointer) { p.pointer(object{*(*unsafe.Pointer)(at), of}) }
		c.unpack = func(u *unpacker, at unsafe.Pointer) { *(*unsafe.Pointer)(at) = u.pointer(of) }
	case kind == reflect.Struct:
		structure(c, t, fresh)
	case kind == reflect.Array:
		array(c, t, build(t.Elem(), fresh))
	case kind == reflect.Slice:
		slice(c, t, build(t.Elem(), fresh))
	case kind == reflect.Map:
		mapping(c, t, build(t.Key(), fresh), build(t.Elem(), fresh))
	case kind == reflect.Interface:
		dynamic(c, t)
	default:
		c.pack = func(p *packer, _ unsafe.Pointer) { p.fail(fmt.Errorf("freeze: no way to pack a %s", t)) }
		c.unpack = func(u *unpacker, _ unsafe.Pointer) { u.damaged() }
	}
	return c
}

func number[T any](c *coder, to func(T) uint64, from func(uint64) T) {
	c.pack = func(p *packer, at unsafe.Pointer) {
		if v := to(*(*T)(at)); v < 0x80 { // nearly all
			p.b = append(p.b, byte(v))
		} else {
			p.unsigned(v)
		}
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		if len(u.b) > 0 && u.b[0] < 0x80 {
			*(*T)(at) = from(uint64(u.b[0]))
			u.b = u.b[1:]
		} else {
			*(*T)(at) = from(u.unsigned())
		}
	}
}

func signed[T int | int8 | int16 | int32 | int64](c *coder) {
	number(c, func(v T) uint64 { return zigzag(int64(v)) }, func(v uint64) T { return T(unzigzag(v)) })
}

func unsigned[T uint | uint8 | uint16 | uint32 | uint64](c *coder) {
	number(c, func(v T) uint64 { return uint64(v) }, func(v uint64) T { return T(v) })
}

func packTime(p *packer, at unsafe.Pointer) {
	b, err := (*time.Time)(at).MarshalBinary()
	if err != nil {
		p.fail(fmt.Errorf("freeze: %w", err))
	}
	p.text(string(b))
}

func unpackTime(u *unpacker, at unsafe.Pointer) {
	if err := (*time.Time)(at).UnmarshalBinary([]byte(u.text())); err != nil {
		u.damaged()
	}
}

func structure(c *coder, t reflect.Type, fresh map[reflect.Type]*coder) {
	type field struct {
		*coder
		offset uintptr
	}
	var fields []field
	for f := range t.Fields() {
		if kind := f.Type.Kind(); f.Tag.Get("freeze") == "-" || kind == reflect.Func || kind == reflect.Chan {
			continue
		}
		fields = append(fields, field{build(f.Type, fresh), f.Offset})
	}
	c.pack = func(p *packer, at unsafe.Pointer) {
		for n := range fields {
			fields[n].pack(p, unsafe.Add(at, fields[n].offset))
		}
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		for n := range fields {
			if u.err != nil {
				return
			}
			fields[n].unpack(u, unsafe.Add(at, fields[n].offset))
		}
	}
}

func array(c *coder, t reflect.Type, of *coder) {
	n, size := t.Len(), t.Elem().Size()
	c.pack = func(p *packer, at unsafe.Pointer) {
		for k := range n {
			of.pack(p, unsafe.Add(at, uintptr(k)*size))
		}
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		for k := 0; k < n && u.err == nil; k++ {
			of.unpack(u, unsafe.Add(at, uintptr(k)*size))
		}
	}
}

func slice(c *coder, t reflect.Type, of *coder) {
	size := t.Elem().Size()
	c.pack = func(p *packer, at unsafe.Pointer) {
		v := reflect.NewAt(t, at).Elem()
		if v.IsNil() {
			p.unsigned(0)
			return
		}
		p.unsigned(uint64(v.Len()) + 1)
		first := v.UnsafePointer()
		for k := range v.Len() {
			of.pack(p, unsafe.Add(first, uintptr(k)*size))
		}
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		n := u.unsigned()
		if n == 0 {
			reflect.NewAt(t, at).Elem().SetZero()
			return
		}
		if n-1 > uint64(len(u.b)) {
			u.damaged()
			return
		}
		v := reflect.MakeSlice(t, int(n-1), int(n-1))
		first := v.UnsafePointer()
		for k := 0; k < int(n-1) && u.err == nil; k++ {
			of.unpack(u, unsafe.Add(first, uintptr(k)*size))
		}
		reflect.NewAt(t, at).Elem().Set(v)
	}
}

func mapping(c *coder, t reflect.Type, key, value *coder) {
	c.pack = func(p *packer, at unsafe.Pointer) {
		v := reflect.NewAt(t, at).Elem()
		if v.IsNil() {
			p.unsigned(0)
			return
		}
		p.unsigned(uint64(v.Len()) + 1)
		// What a map holds cannot be pointed to: it is copied out.
		k, e := reflect.New(t.Key()), reflect.New(t.Elem())
		for all := v.MapRange(); all.Next(); {
			k.Elem().SetIterKey(all)
			e.Elem().SetIterValue(all)
			key.pack(p, k.UnsafePointer())
			value.pack(p, e.UnsafePointer())
		}
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		n := u.unsigned()
		if n == 0 {
			reflect.NewAt(t, at).Elem().SetZero()
			return
		}
		if n-1 > uint64(len(u.b)) {
			u.damaged()
			return
		}
		v := reflect.MakeMapWithSize(t, int(n-1))
		for range n - 1 {
			k, e := reflect.New(t.Key()), reflect.New(t.Elem())
			key.unpack(u, k.UnsafePointer())
			value.unpack(u, e.UnsafePointer())
			if u.err != nil {
				return
			}
			v.SetMapIndex(k.Elem(), e.Elem())
		}
		reflect.NewAt(t, at).Elem().Set(v)
	}
}

// dynamic packs an interface: what type it holds, from 1, and the value.
func dynamic(c *coder, t reflect.Type) {
	c.pack = func(p *packer, at unsafe.Pointer) {
		v := reflect.NewAt(t, at).Elem()
		if v.IsNil() {
			p.unsigned(0)
			return
		}
		v = v.Elem()
		n, ok := p.types[v.Type()]
		if !ok {
			p.fail(fmt.Errorf("freeze: a %s stands in a %s, and is not among the types", v.Type(), t))
			return
		}
		p.unsigned(n + 1)
		copied := reflect.New(v.Type())
		copied.Elem().Set(v)
		coderOf(v.Type()).pack(p, copied.UnsafePointer())
	}
	c.unpack = func(u *unpacker, at unsafe.Pointer) {
		n := u.unsigned()
		to := reflect.NewAt(t, at).Elem()
		if n == 0 {
			to.SetZero()
			return
		}
		if n > uint64(len(u.types)) || !u.types[n-1].AssignableTo(t) {
			u.damaged()
			return
		}
		v := reflect.New(u.types[n-1])
		coderOf(u.types[n-1]).unpack(u, v.UnsafePointer())
		if u.err == nil {
			to.Set(v.Elem())
		}
	}
}
