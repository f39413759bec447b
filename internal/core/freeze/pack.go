package freeze

import (
	"encoding/binary"
	"fmt"
	"math/bits"
	"reflect"
	"time"
	"unsafe"
)

// packer writes.
type packer struct {
	b       []byte
	numbers map[object]uint64 // from 1
	queue   []object          // numbered, and not written yet
	strings map[string]uint64
	types   map[reflect.Type]uint64
	err     error
}

// value writes a value of a plan's type.
func (p *packer) value(pl *plan, at unsafe.Pointer) {
	steps := pl.ready()
	if len(steps) == 1 {
		p.step(&steps[0], unsafe.Add(at, steps[0].at))
		return
	}
	for ; len(steps) > 0; steps = steps[min(group, len(steps)):] {
		mark := len(p.b)
		p.b = append(p.b, 0)
		there := byte(0)
		for n := range min(group, len(steps)) {
			s := &steps[n]
			if of := unsafe.Add(at, s.at); !s.zero(of) {
				there |= 1 << n
				p.step(s, of)
			}
		}
		p.b[mark] = there
	}
}

func (p *packer) step(s *step, at unsafe.Pointer) {
	switch s.kind {
	case unsigned8:
		p.number(uint64(*(*uint8)(at)))
	case unsigned16:
		p.number(uint64(*(*uint16)(at)))
	case unsigned32:
		p.number(uint64(*(*uint32)(at)))
	case unsigned64:
		p.number(*(*uint64)(at))
	case signed8:
		p.number(zigzag(int64(*(*int8)(at))))
	case signed16:
		p.number(zigzag(int64(*(*int16)(at))))
	case signed32:
		p.number(zigzag(int64(*(*int32)(at))))
	case signed64:
		p.number(zigzag(*(*int64)(at)))
	case float64s:
		p.b = binary.LittleEndian.AppendUint64(p.b, *(*uint64)(at))
	case texts:
		p.text(*(*string)(at))
	case pointers:
		p.pointer(object{*(*unsafe.Pointer)(at), s.elem})
	case slices_:
		p.slice(s, at)
	case arrays:
		for k := range s.n {
			p.value(s.elem, unsafe.Add(at, uintptr(k)*s.size))
		}
	case maps:
		p.mapping(s, at)
	case interfaces:
		p.dynamic(s, at)
	case times:
		b, err := (*time.Time)(at).MarshalBinary()
		if err != nil {
			p.fail(fmt.Errorf("freeze: %w", err))
		}
		p.text(string(b))
	case others:
		p.fail(fmt.Errorf("freeze: no way to pack a %s", s.of))
	}
}

func (p *packer) slice(s *step, at unsafe.Pointer) {
	if *(*unsafe.Pointer)(at) == nil {
		p.number(0)
		return
	}
	list := *(*[]struct{})(at)
	p.number(uint64(len(list)) + 1)
	first := unsafe.Pointer(unsafe.SliceData(list))
	for k := range list {
		p.value(s.elem, unsafe.Add(first, uintptr(k)*s.size))
	}
}

func (p *packer) mapping(s *step, at unsafe.Pointer) {
	v := reflect.NewAt(s.of, at).Elem()
	if v.IsNil() {
		p.number(0)
		return
	}
	p.number(uint64(v.Len()) + 1)
	// What a map holds cannot be pointed to: it is copied out.
	k, e := reflect.New(s.of.Key()), reflect.New(s.of.Elem())
	for all := v.MapRange(); all.Next(); {
		k.Elem().SetIterKey(all)
		e.Elem().SetIterValue(all)
		p.value(s.key, k.UnsafePointer())
		p.value(s.elem, e.UnsafePointer())
	}
}

// dynamic packs an interface: what type it holds, from 1, and the value.
func (p *packer) dynamic(s *step, at unsafe.Pointer) {
	v := reflect.NewAt(s.of, at).Elem()
	if v.IsNil() {
		p.number(0)
		return
	}
	v = v.Elem()
	n, ok := p.types[v.Type()]
	if !ok {
		p.fail(fmt.Errorf("freeze: a %s stands in a %s, and is not among the types", v.Type(), s.of))
		return
	}
	p.number(n + 1)
	if v.Kind() == reflect.Pointer {
		p.pointer(object{v.UnsafePointer(), planOf(v.Type().Elem())})
		return
	}
	copied := reflect.New(v.Type())
	copied.Elem().Set(v)
	p.value(planOf(v.Type()), copied.UnsafePointer())
}

// number writes a byte that is less than 0x80, or how many bytes follow, from the lowest on.
func (p *packer) number(v uint64) {
	if v < wide {
		p.b = append(p.b, byte(v))
		return
	}
	n := (bits.Len64(v) + 7) / 8
	p.b = append(p.b, wide|byte(n))
	p.b = binary.LittleEndian.AppendUint64(p.b, v)
	p.b = p.b[:len(p.b)-8+n]
}

const wide = 0x80

func (p *packer) text(s string) {
	if s == "" {
		p.number(0)
		return
	}
	if n, ok := p.strings[s]; ok {
		p.number(n + 2)
		return
	}
	p.strings[s] = uint64(len(p.strings))
	p.number(1)
	p.number(uint64(len(s)))
	p.b = append(p.b, s...)
}

// pointer writes the number of what is pointed to, from 2, or 1 if it is met here, and sees to it that it will be written.
func (p *packer) pointer(o object) {
	if o.at == nil {
		p.number(0)
		return
	}
	if n, ok := p.numbers[o]; ok {
		p.number(n + 1)
		return
	}
	p.numbers[o] = uint64(len(p.numbers)) + 1
	p.queue = append(p.queue, o)
	p.number(1)
}

func (p *packer) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}

func zigzag(v int64) uint64   { return uint64(v)<<1 ^ uint64(v>>63) }
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }
