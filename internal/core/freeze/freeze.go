package freeze

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"unsafe"
)

// Set describes the values to pack. Unpacking requires an equal Set.
type Set struct {
	Roots []any // pointers to what is packed; unpacking fills what they point to
	Fixed []any // pointers that mean the same before and after, to what is not packed
	Types []any // a value of each other type that is in an interface
}

// errDamaged is returned when bytes are not what was packed.
var errDamaged = errors.New("not what was packed")

// object is a thing that pointers point to. The type is needed too: a struct begins where its first field does.
type object struct {
	at unsafe.Pointer
	of *plan // of the thing
}

// known returns the objects that have a number before anything is packed: roots, then fixed ones.
func (s *Set) known() ([]object, error) {
	var list []object
	for _, p := range slices.Concat(s.Roots, s.Fixed) {
		v := reflect.ValueOf(p)
		if v.Kind() != reflect.Pointer || v.IsNil() {
			return nil, fmt.Errorf("freeze: %T is no pointer to anything", p)
		}
		o := object{v.UnsafePointer(), planOf(v.Type().Elem())}
		if slices.Contains(list, o) {
			return nil, fmt.Errorf("freeze: one %T is given twice", p)
		}
		list = append(list, o)
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

// Inside lists pointers into the middle of something else that is packed, which would come back as a copy of their own.
// It is for tests.
func (s *Set) Inside() ([]string, error) {
	p, err := s.freeze()
	if err != nil {
		return nil, err
	}
	all := slices.DeleteFunc(p.numbers.all(), func(o object) bool { return o.of.of.Size() == 0 })
	slices.SortFunc(all, func(a, b object) int {
		return cmp.Or(cmp.Compare(uintptr(a.at), uintptr(b.at)), cmp.Compare(b.of.of.Size(), a.of.of.Size()))
	})
	var list []string
	end, around := uintptr(0), reflect.Type(nil)
	for _, o := range all {
		if at := uintptr(o.at); at < end {
			list = append(list, fmt.Sprintf("a %s in a %s", o.of.of, around))
		} else {
			end, around = at+o.of.of.Size(), o.of.of
		}
	}
	return list, nil
}

// Freeze packs what can be reached from the roots. It returns an error where a value is in an interface whose type
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
	p := &packer{
		b:       make([]byte, 8), // for how many objects there are
		numbers: numbers{first: map[unsafe.Pointer]numbered{}, others: map[object]uint64{}},
		strings: map[string]uint64{}, types: map[reflect.Type]uint64{},
	}
	for _, o := range known {
		p.numbers.of(o)
	}
	for n, t := range s.types() {
		if _, ok := p.types[t]; !ok {
			p.types[t] = uint64(n)
		}
	}
	p.queue = append(p.queue, known[:len(s.Roots)]...)
	for n := 0; n < len(p.queue); n++ {
		o := p.queue[n]
		p.b = room(p.b)
		p.value(o.of, o.at)
	}
	binary.LittleEndian.PutUint64(p.b, p.numbers.count)
	return p, p.err
}

// Thaw fills the roots with what was packed. After an error they are in no state to be used.
func (s *Set) Thaw(b []byte) error {
	known, err := s.known()
	if err != nil {
		return err
	}
	u := &unpacker{types: s.types(), fits: map[fit]*plan{}}
	if len(b) < 8 {
		return fmt.Errorf("freeze: %w", errDamaged)
	}
	// Room for all objects at once, as far as the bytes are enough for that.
	many := min(binary.LittleEndian.Uint64(b), uint64(len(b)/int(unsafe.Sizeof(object{})))+uint64(len(known)))
	u.objects, u.b = append(make([]object, 0, many), known...), b[8:]
	for _, root := range known[:len(s.Roots)] {
		root.of.clear(root.at)
		u.value(root.of, root.at)
	}
	// What pointers lead to comes in the order in which they were met.
	for n := len(known); n < len(u.objects) && u.err == nil; n++ {
		u.value(u.objects[n].of, u.objects[n].at)
	}
	if u.err == nil && len(u.b) > 0 {
		u.err = fmt.Errorf("freeze: %w: %d bytes are left over", errDamaged, len(u.b))
	}
	return u.err
}
