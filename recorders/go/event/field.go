package event

import "math/bits"

// Field is one field of a line.
type Field uint8

// Fields is a set of fields.
type Fields struct{ low, high uint64 }

// Of makes a set.
func Of(fs ...Field) Fields {
	var s Fields
	for _, f := range fs {
		s.Set(f)
	}
	return s
}

// Bits returns the set as two numbers, and FieldsOf a set of such.
func (s Fields) Bits() (low, high uint64) { return s.low, s.high }
func FieldsOf(low, high uint64) Fields    { return Fields{low, high} }

// Has reports whether f is in the set.
func (s Fields) Has(f Field) bool {
	if f < 64 {
		return s.low>>f&1 == 1
	}
	return s.high>>(f-64)&1 == 1
}

// Set adds f.
func (s *Fields) Set(f Field) {
	if f < 64 {
		s.low |= 1 << f
	} else {
		s.high |= 1 << (f - 64)
	}
}

// Drop takes fields out of the set.
func (s *Fields) Drop(fs ...Field) {
	of := Of(fs...)
	s.low &^= of.low
	s.high &^= of.high
}

// Without returns what is in s and not in o.
func (s Fields) Without(o Fields) Fields { return Fields{s.low &^ o.low, s.high &^ o.high} }

// Meets reports whether s and o have a field in common.
func (s Fields) Meets(o Fields) bool { return s.low&o.low|s.high&o.high != 0 }

// None reports whether the set is empty.
func (s Fields) None() bool { return s.low|s.high == 0 }

// First returns the first field of the set in the order of a line, false where it is empty.
func (s Fields) First() (Field, bool) {
	switch {
	case s.low != 0:
		return Field(bits.TrailingZeros64(s.low)), true
	case s.high != 0:
		return Field(64 + bits.TrailingZeros64(s.high)), true
	}
	return 0, false
}

func (s Fields) and(o Fields) Fields { return Fields{s.low & o.low, s.high & o.high} }
func (s Fields) or(o Fields) Fields  { return Fields{s.low | o.low, s.high | o.high} }

// String returns the field's name in a line.
func (f Field) String() string {
	if int(f) < len(fieldNames) {
		return fieldNames[f]
	}
	return "?"
}

// fieldTable finds a field by its name: open addressing over a hash of the length and three letters, which is several
// times faster than a map of strings, and this runs for every member of every line.
var fieldTable = func() (t [256]uint8) {
	for i, n := range fieldNames {
		at := fieldHash([]byte(n))
		for t[at] != 0 {
			at++
		}
		t[at] = uint8(i + 1)
	}
	return t
}()

func fieldHash(name []byte) uint8 {
	n := len(name)
	return uint8(n) + 3*name[0] + 29*name[n-1] + 7*name[n/2]
}

// FieldOf returns the field that a line's member names. It does not keep name.
func FieldOf(name []byte) (Field, bool) {
	if len(name) == 0 {
		return 0, false
	}
	for at := fieldHash(name); fieldTable[at] != 0; at++ {
		if f := fieldTable[at] - 1; fieldNames[f] == string(name) {
			return Field(f), true
		}
	}
	return 0, false
}

// shape is what one kind's line must and may have.
type shape struct {
	required, optional Fields
}

// Required returns the fields that a line of kind k must have, t apart.
func (k Kind) Required() Fields { return shapes[k].required }

// Allows reports whether f means something on a line of kind k. What does not is kept out of the way, never refused.
func (k Kind) Allows(f Field) bool {
	return f <= FT || shapes[k].required.Has(f) || shapes[k].optional.Has(f)
}

// idKind is the kind of thing an id names.
type idKind uint8

// The kinds of id that one line defines and another may wait for.
const (
	ScopeRef idKind = iota
	InstRef
	ContainerRef
)

// Ref names one thing of a stream.
type Ref struct {
	Kind idKind
	ID   uint64
}
