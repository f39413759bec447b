package ledger

import "unsafe"

// Naming numbers what scopes are called, by name and kind together, in the order in which they came: from 1, and 0 for all
// that came when maxNamings had a number.
type Naming int32

const maxNamings = 4096

type naming struct{ name, kind string }

// number returns the number of texts that are held by n.
func (n *names) number(name, kind string) Naming {
	one := naming{name, kind}
	at := uintptr(unsafe.Pointer(unsafe.StringData(name)))>>4 ^ uintptr(len(name)) ^ uintptr(unsafe.Pointer(unsafe.StringData(kind)))>>3
	slot := &n.numbered[at%uintptr(len(n.numbered))]
	if slot.number > 0 && slot.same(one) {
		return slot.number
	}
	number := n.namings[one]
	if number == 0 {
		if len(n.namings) == maxNamings {
			return 0
		}
		number = Naming(len(n.namings) + 1)
		n.namings[one] = number
	}
	slot.naming, slot.number = one, number
	return number
}

// same reports whether two are the same texts in the same places.
func (a naming) same(b naming) bool {
	return len(a.name) == len(b.name) && len(a.kind) == len(b.kind) &&
		unsafe.StringData(a.name) == unsafe.StringData(b.name) && unsafe.StringData(a.kind) == unsafe.StringData(b.kind)
}

// PerNaming holds what a rule knows of scopes that are called the same, where that has a number, to find it without looking
// at names.
type PerNaming[T any] []*T

// At returns what was Set, nil if nothing was.
func (p PerNaming[T]) At(n Naming) *T {
	if int(n) < len(p) {
		return p[n]
	}
	return nil
}

// Set notes what is known, unless n is 0.
func (p *PerNaming[T]) Set(n Naming, known *T) {
	if n == 0 {
		return
	}
	for len(*p) <= int(n) {
		*p = append(*p, nil)
	}
	(*p)[n] = known
}
