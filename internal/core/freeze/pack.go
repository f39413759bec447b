package freeze

import (
	"encoding/binary"
	"fmt"
	"maps"
	"math/bits"
	"reflect"
	"slices"
	"time"
	"unsafe"
)

// packer writes.
type packer struct {
	b       []byte
	numbers numbers
	queue   []object // numbered, and not written yet
	strings map[string]uint64
	types   map[reflect.Type]uint64
	err     error
}

// numbers numbers objects, from 1.
type numbers struct {
	count  uint64
	first  map[unsafe.Pointer]numbered // the first that was met at each place
	others map[object]uint64           // those that begin where another one does
	recent [1 << 10]struct {           // met last: most pointers are to what many point to
		object
		n uint64
	}
}

type numbered struct {
	of *plan
	n  uint64
}

// of returns the number of an object, and whether it was met here.
func (m *numbers) of(o object) (n uint64, fresh bool) {
	r := &m.recent[uintptr(o.at)>>4%uintptr(len(m.recent))]
	if r.object == o {
		return r.n, false
	}
	switch f, ok := m.first[o.at]; {
	case !ok:
		m.count++
		n, fresh = m.count, true
		m.first[o.at] = numbered{o.of, n}
	case f.of == o.of:
		n = f.n
	case m.others[o] != 0:
		n = m.others[o]
	default:
		m.count++
		n, fresh = m.count, true
		m.others[o] = n
	}
	r.object, r.n = o, n
	return n, fresh
}

// all returns every object that has a number.
func (m *numbers) all() []object {
	list := make([]object, 0, m.count)
	for at, f := range m.first {
		list = append(list, object{at, f.of})
	}
	return slices.AppendSeq(list, maps.Keys(m.others))
}

// room returns a list with some of it, twice as long as it was if need be: what append adds to long lists is little.
func room[S ~[]E, E any](list S) S {
	const least = 1 << 12
	if cap(list)-len(list) < least {
		return slices.Grow(list, len(list)+least)
	}
	return list
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
			of := unsafe.Add(at, s.at)
			if s.kind < float64s { // most are, and need not be loaded twice
				if v := s.load(of); v != 0 {
					there |= 1 << n
					p.number(v)
				}
			} else if !s.zero(of) {
				there |= 1 << n
				p.step(s, of)
			}
		}
		p.b[mark] = there
	}
}

func (p *packer) step(s *step, at unsafe.Pointer) {
	if s.kind < float64s {
		p.number(s.load(at))
		return
	}
	switch s.kind {
	case float64s:
		p.b = binary.LittleEndian.AppendUint64(p.b, *(*uint64)(at))
	case texts:
		p.text(*(*string)(at))
	case pointers:
		p.pointer(object{*(*unsafe.Pointer)(at), s.elem})
	case lists:
		p.slice(s, at)
	case arrays:
		for k := range s.n {
			p.value(s.elem, unsafe.Add(at, uintptr(k)*s.size))
		}
	case mappings:
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
		p.fail(fmt.Errorf("freeze: a %s is in a %s, and is not among the types", v.Type(), s.of))
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
	n, fresh := p.numbers.of(o)
	if fresh {
		p.queue = append(room(p.queue), o)
		p.number(1)
		return
	}
	p.number(n + 1)
}

func (p *packer) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}
