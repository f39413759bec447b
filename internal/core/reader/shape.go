package reader

import (
	"encoding/binary"
	"math/bits"

	"keenlantern.example/record/event"
)

// shapes are the orders in which the quick lines so far had their members, as a tree: a recorder writes few of them, and
// comparing a member's name with the one that was there before takes less than finding out which it is. A line that follows no
// branch is read by quick, and its branch is added. A full tree begins anew, so that lines which have nothing in common cost
// a branch each and no more.
type shapes struct {
	roots [1 << rootBits]int16 // by the kind's letters; 0: none
	nodes []shape              // nodes[0] is none
}

// shape is one member, behind those that lead to it.
type shape struct {
	label [2]uint64 // the bytes before its value, from the comma on (the first one: from the kind on), as two numbers
	mask  [2]uint64 // where these are
	next  int16     // what may follow; 0: nothing
	other int16     // what may come instead; 0: nothing
	n     uint8     // bytes of the label
	value value
	kind  event.Kind
	field event.Field
	last  bool         // a line ended behind it
	has   event.Fields // with those that lead to it
	text  string       // its latest value
}

// value is what a member of a quick line may hold.
type value uint8

const (
	aNumber value = iota
	aText         // its opening quote belongs to the label
	aList
)

const (
	rootBits   = 5
	maxShapes  = 256
	maxMembers = 16
	maxLabel   = 16 // bytes
)

// member is a member of a quick line: where its label begins and ends.
type member struct {
	from, to int
	field    event.Field
	value    value
}

const head = `{"ev":"`

// known reads a line that follows a branch; false says that nothing is decided, and that the event is to be reset. Labels are
// compared sixteen bytes at a time, in wide, which is the line and what comes behind it. What matches beyond the line's end
// is refused, as it does not end where the line does.
func (p *Parser) known(wide []byte) bool {
	text := p.text
	if len(text) < len(head)+8 || string(text[:len(head)]) != head {
		return false
	}
	nodes := p.shapes.nodes
	at := p.shapes.roots[rootOf(text)]
	e := p.ev
	for i := len(head); i+maxLabel <= len(wide); {
		first, second := binary.LittleEndian.Uint64(wide[i:]), binary.LittleEndian.Uint64(wide[i+8:])
		if at == 0 {
			return false
		}
		s := &nodes[at]
		for (first^s.label[0])&s.mask[0]|(second^s.label[1])&s.mask[1] != 0 {
			if s.other == 0 {
				return false
			}
			s = &nodes[s.other]
		}
		if i == len(head) {
			e.Kind, e.Count, e.Weight = s.kind, 1, 1
		}
		i += int(s.n)
		switch s.value {
		case aNumber:
			if i+2*8 > len(wide) {
				return false
			}
			n, long := digits(binary.LittleEndian.Uint64(wide[i:]))
			if long == 8 {
				low, more := digits(binary.LittleEndian.Uint64(wide[i+8:]))
				n, long = n*powers[more]+low, 8+more
			}
			if long == 0 || long > maxDigits || wide[i] == '0' && long > 1 || !p.quickNumber(s.field, n) {
				return false
			}
			i += long
		case aText:
			if i >= len(text) {
				return false
			}
			if end := i + len(s.text); end < len(text) && text[end] == '"' && string(text[i:end]) == s.text {
				i = end
			} else {
				end, hash := plainText(text, i)
				if end < 0 {
					return false
				}
				s.text = p.names.hashed(text[i:end], hash)
				i = end
			}
			*p.quickText(s.field) = s.text
			i++
		case aList:
			p.pos = i
			list, ok := p.plainList(e.With[:0])
			e.With = list
			if i = p.pos; !ok {
				return false
			}
		}
		if s.last && i+1 == len(text) && text[i] == '}' {
			e.Has = s.has
			return true
		}
		at = s.next
	}
	return false
}

// learn adds the branch of a quick line with these members.
func (t *shapes) learn(text []byte, kind event.Kind, members []member) {
	if t.nodes == nil {
		t.nodes = make([]shape, 1, maxShapes) // links point into it, so that it never moves
	} else if len(t.nodes)+len(members) > maxShapes {
		*t = shapes{nodes: t.nodes[:1]}
	}
	link := &t.roots[rootOf(text)]
	var s *shape
	has := event.Fields{}
	for _, m := range members {
		has.Set(m.field)
		one := shape{n: uint8(m.to - m.from), value: m.value, kind: kind, field: m.field, has: has}
		if m.to-m.from > maxLabel {
			return
		}
		var label, mask [maxLabel]byte
		for n := range copy(label[:], text[m.from:m.to]) {
			mask[n] = 0xff
		}
		for half := range one.label {
			one.label[half], one.mask[half] = binary.LittleEndian.Uint64(label[8*half:]), binary.LittleEndian.Uint64(mask[8*half:])
		}
		for *link != 0 && (t.nodes[*link].label != one.label || t.nodes[*link].n != one.n || t.nodes[*link].value != one.value) {
			link = &t.nodes[*link].other
		}
		if *link == 0 {
			t.nodes = append(t.nodes, one)
			*link = int16(len(t.nodes) - 1)
		}
		s = &t.nodes[*link]
		link = &s.next
	}
	s.last = true
}

// rootOf returns where the branches of a line begin, by the eight bytes behind its head.
func rootOf(text []byte) int {
	return int(binary.LittleEndian.Uint64(text[len(head):]) * wordHash >> (64 - rootBits))
}

// maxDigits is how long a number is at most that is sure to fit.
const maxDigits = 15

// digits returns the number that eight bytes begin with, and how many of them are its digits.
// Source: a number of eight digits is the sum of its halves, as each of these is, so that pairs are added up at once.
func digits(eight uint64) (n uint64, long int) {
	const zeros, tops = 0x3030303030303030, 0x8080808080808080
	eight ^= zeros
	// A byte over 9 has its top bit set, or gets it by having 0x76 added. That may reach the byte above, but not one below.
	long = bits.TrailingZeros64((eight+0x7676767676767676|eight)&tops) / 8
	eight <<= 64 - 8*long // zeros in front
	eight = eight*10 + eight>>8
	const pair = 0x000000ff000000ff
	return (eight&pair*(100+1_000_000<<32) + eight>>16&pair*(1+10_000<<32)) >> 32, long
}

var powers = [...]uint64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8}

// plainText returns where a text that begins at i ends and its hash, -1 where it has escapes, or may not be taken as it
// stands.
func plainText(text []byte, i int) (end int, hash uint64) {
	first, hash := i, hashStart
	for i+8 <= len(text) {
		eight := binary.LittleEndian.Uint64(text[i:])
		if !plain(eight) {
			break
		}
		hash = hashOnEight(hash, eight)
		i += 8
	}
	for i < len(text) && text[i] != '"' {
		c := text[i]
		if c < ' ' || c == '\\' || c > '~' {
			return -1, 0
		}
		hash = hashOn(hash, c)
		i++
	}
	if i == len(text) || i-first > event.MaxText {
		return -1, 0
	}
	return i, hash
}
