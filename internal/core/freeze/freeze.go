package freeze

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"reflect"
	"slices"
	"unsafe"
)

// Set says what is packed. The same Set, made the same way, is needed to unpack.
type Set struct {
	Roots []any // pointers to what is packed; unpacking fills what they point to
	Fixed []any // pointers that mean the same before and after, to what is not packed
	Types []any // a value of each other type that stands in an interface
}

// errDamaged says that bytes are not what was packed.
var errDamaged = errors.New("not what was packed")

// object is a thing that pointers point to. The type is needed too: a struct begins where its first field does.
type object struct {
	at unsafe.Pointer
	of reflect.Type // of the thing
}

// known returns the objects that have a number before anything is packed: roots, then fixed ones.
func (s *Set) known() ([]object, error) {
	var list []object
	for _, p := range slices.Concat(s.Roots, s.Fixed) {
		v := reflect.ValueOf(p)
		if v.Kind() != reflect.Pointer || v.IsNil() {
			return nil, fmt.Errorf("freeze: %T is no pointer to anything", p)
		}
		list = append(list, object{v.UnsafePointer(), v.Type().Elem()})
	}
	return list, nil
}

func (s *Set) types() []reflect.Type {
	var list []reflect.Type
	for _, v := range slices.Concat(s.Types, s.Roots, s.Fixed) {
		list = append(list, reflect.TypeOf(v))
	}
	return list
}

// packer writes.
type packer struct {
	b       []byte
	numbers map[object]uint64 // from 1
	queue   []object          // numbered, and not written yet
	strings map[string]uint64
	types   map[reflect.Type]uint64
	err     error
}

// Inside lists pointers into the middle of something else that is packed, which would come back as a copy of their own.
// It is for tests.
func (s *Set) Inside() ([]string, error) {
	p, err := s.freeze()
	if err != nil {
		return nil, err
	}
	all := make([]object, 0, len(p.numbers))
	for o := range p.numbers {
		if o.of.Size() > 0 {
			all = append(all, o)
		}
	}
	slices.SortFunc(all, func(a, b object) int {
		return cmp.Or(cmp.Compare(uintptr(a.at), uintptr(b.at)), cmp.Compare(b.of.Size(), a.of.Size()))
	})
	var list []string
	end, around := uintptr(0), reflect.Type(nil)
	for _, o := range all {
		if at := uintptr(o.at); at < end {
			list = append(list, fmt.Sprintf("a %s in a %s", o.of, around))
		} else {
			end, around = at+o.of.Size(), o.of
		}
	}
	return list, nil
}

// Freeze packs what can be reached from the roots. It returns an error where a value stands in an interface whose type
// is not in Types.
func (s *Set) Freeze() ([]byte, error) {
	p, err := s.freeze()
	if err != nil {
		return nil, err
	}
	return p.b, nil
}

func (s *Set) freeze() (*packer, error) {
	known, err := s.known()
	if err != nil {
		return nil, err
	}
	p := &packer{numbers: map[object]uint64{}, strings: map[string]uint64{}, types: map[reflect.Type]uint64{}}
	for n, o := range known {
		p.numbers[o] = uint64(n) + 1
	}
	for n, t := range s.types() {
		if _, ok := p.types[t]; !ok {
			p.types[t] = uint64(n)
		}
	}
	p.queue = append(p.queue, known[:len(s.Roots)]...)
	for n := 0; n < len(p.queue); n++ {
		o := p.queue[n]
		p.queue[n] = object{}
		coderOf(o.of).pack(p, o.at)
	}
	return p, p.err
}

func (p *packer) unsigned(v uint64) { p.b = binary.AppendUvarint(p.b, v) }

func (p *packer) text(s string) {
	if s == "" {
		p.unsigned(0)
		return
	}
	if n, ok := p.strings[s]; ok {
		p.unsigned(n + 2)
		return
	}
	p.strings[s] = uint64(len(p.strings))
	p.unsigned(1)
	p.unsigned(uint64(len(s)))
	p.b = append(p.b, s...)
}

// pointer writes the number of what is pointed to, and sees to it that it will be written.
func (p *packer) pointer(o object) {
	if o.at == nil {
		p.unsigned(0)
		return
	}
	n, ok := p.numbers[o]
	if !ok {
		n = uint64(len(p.numbers)) + 1
		p.numbers[o] = n
		p.queue = append(p.queue, o)
	}
	p.unsigned(n)
}

func (p *packer) fail(err error) {
	if p.err == nil {
		p.err = err
	}
}

// unpacker reads. Whatever the bytes say, it does not panic and makes nothing larger than they are.
type unpacker struct {
	b       []byte
	objects []object
	queue   []object
	strings []string
	types   []reflect.Type
	err     error
}

// Thaw fills the roots with what was packed. After an error they are in no state to be used.
func (s *Set) Thaw(b []byte) error {
	known, err := s.known()
	if err != nil {
		return err
	}
	u := &unpacker{b: b, objects: known, types: s.types()}
	u.queue = append(u.queue, known[:len(s.Roots)]...)
	for n := 0; n < len(u.queue) && u.err == nil; n++ {
		o := u.queue[n]
		u.queue[n] = object{}
		coderOf(o.of).unpack(u, o.at)
	}
	if u.err == nil && len(u.b) > 0 {
		u.err = fmt.Errorf("freeze: %w: %d bytes are left over", errDamaged, len(u.b))
	}
	return u.err
}

func (u *unpacker) damaged() {
	if u.err == nil {
		u.err = fmt.Errorf("freeze: %w", errDamaged)
	}
	u.b = nil
}

func (u *unpacker) unsigned() uint64 {
	v, n := binary.Uvarint(u.b)
	if n <= 0 {
		u.damaged()
		return 0
	}
	u.b = u.b[n:]
	return v
}

// length reads how many there are of something that takes a byte each at least.
func (u *unpacker) length() int {
	n := u.unsigned()
	if n > uint64(len(u.b)) {
		u.damaged()
		return 0
	}
	return int(n)
}

func (u *unpacker) text() string {
	switch n := u.unsigned(); n {
	case 0:
		return ""
	case 1:
		length := u.length()
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
func (u *unpacker) pointer(of reflect.Type) unsafe.Pointer {
	n := u.unsigned()
	switch {
	case n == 0:
		return nil
	case n <= uint64(len(u.objects)):
		if o := u.objects[n-1]; o.of == of {
			return o.at
		}
		u.damaged()
		return nil
	case n > uint64(len(u.objects))+1:
		u.damaged()
		return nil
	}
	o := object{reflect.New(of).UnsafePointer(), of}
	u.objects = append(u.objects, o)
	u.queue = append(u.queue, o)
	return o.at
}

func zigzag(v int64) uint64   { return uint64(v)<<1 ^ uint64(v>>63) }
func unzigzag(v uint64) int64 { return int64(v>>1) ^ -int64(v&1) }

func (u *unpacker) float() float64 {
	if len(u.b) < 8 {
		u.damaged()
		return 0
	}
	v := math.Float64frombits(binary.LittleEndian.Uint64(u.b))
	u.b = u.b[8:]
	return v
}
