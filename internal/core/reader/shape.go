package reader

import (
	"encoding/binary"
	"math/bits"

	"keenlantern.example/record/event"
)

// shapes are the orders in which the quick lines so far had their members, as a tree: a recorder writes few of them, and
// comparing a member's name with the one that was there before takes less than finding out which it is. A line that follows no
// branch is read by quick, and its branch is added. A full tree starts again, so that lines which have nothing in common cost
// a branch each and no more.
type shapes struct {
	roots [1 << rootBits]uint8 // by the kind's letters; 0: none
	nodes *[maxShapes]shape    // nodes[0] is none
	count int
}

// shape is one member, behind those that lead to it.
type shape struct {
	label [2]uint64 // the bytes before its value, from the comma on (the first one: from the kind on), as two numbers
	mask  [2]uint64 // where these are
	next  uint8     // what may follow; 0: nothing
	other uint8     // what may come instead; 0: nothing
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
	maxShapes  = 256 // what a link can distinguish
	maxMembers = 16
	maxLabel   = 16              // bytes
	step       = 2*maxLabel + 16 // bytes: no label and number together take more, whatever a label's length is taken for
)

// member is a member of a quick line: where its label begins and ends.
type member struct {
	from, to int
	field    event.Field
	value    value
}

const head = `{"ev":"`

// known reads a line that follows a branch; false: nothing is decided, and that the event is to be reset. Labels and
// numbers are taken sixteen bytes at a time, out of wide, which is the line and what comes behind it. What matches beyond the
// line's end is refused, as it does not end where the line does.
func (p *Parser) known(wide []byte) bool {
	end := len(p.text)
	if end < len(head)+8 || len(wide) < end || string(wide[:len(head)]) != head {
		return false
	}
	nodes := p.shapes.nodes
	at := p.shapes.roots[rootOf(wide)]
	e := p.ev
	for i := len(head); at != 0 && i+step <= len(wide); {
		room := (*[step]byte)(wide[i:])
		s := &nodes[at]
		first, second := binary.LittleEndian.Uint64(room[:8]), binary.LittleEndian.Uint64(room[8:16])
		for (first^s.label[0])&s.mask[0]|(second^s.label[1])&s.mask[1] != 0 {
			if s.other == 0 {
				return false
			}
			s = &nodes[s.other]
		}
		if i == len(head) {
			e.Kind, e.Count, e.Weight = s.kind, 1, 1
		}
		if s.value == aNumber {
			from := s.n % (2 * maxLabel)
			n, long := digits(binary.LittleEndian.Uint64(room[from : from+8]))
			if long == 8 {
				if low, more := digits(binary.LittleEndian.Uint64(room[from+8 : from+16])); more > 0 {
					n, long = n*powers[more]+low, 8+more
				}
			}
			if long == 0 || long > maxDigits || room[from] == '0' && long > 1 || !p.quickNumber(s.field, n) {
				return false
			}
			i += int(from) + long
		} else if i = p.knownText(s, i+int(s.n)); i == 0 {
			return false
		}
		if s.last && i+1 == end && wide[i] == '}' {
			e.Has = s.has
			return true
		}
		at = s.next
	}
	return false
}

// knownText reads the value of a member that is no number, and returns where it ends, 0 where nothing is decided. It is kept out of
// known (noinline), whose loop could not hold what it needs in registers otherwise.
//
//go:noinline
func (p *Parser) knownText(s *shape, i int) int {
	text, e := p.text, p.ev
	if i >= len(text) {
		return 0
	}
	if s.value == aList {
		p.pos = i
		list, ok := p.plainList(e.With[:0])
		e.With = list
		if !ok {
			return 0
		}
		return p.pos
	}
	if end := i + len(s.text); end < len(text) && text[end] == '"' && string(text[i:end]) == s.text {
		i = end
	} else {
		end, hash := plainText(text, i)
		if end < 0 {
			return 0
		}
		s.text = p.names.hashed(text[i:end], hash)
		i = end
	}
	*p.quickText(s.field) = s.text
	return i + 1
}

// learn adds the branch of a quick line with these members.
func (t *shapes) learn(text []byte, kind event.Kind, members []member) {
	if t.nodes == nil {
		t.nodes, t.count = &[maxShapes]shape{}, 1
	} else if t.count+len(members) > maxShapes {
		*t = shapes{nodes: t.nodes, count: 1}
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
			t.nodes[t.count] = one
			*link = uint8(t.count)
			t.count++
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

// digits returns the number that eight bytes begin with, and how many of them are its digits; the number is meaningless if
// there are none.
// Source: a number of eight digits is the sum of its halves, as each of these is, so that pairs are added up at once.
func digits(eight uint64) (n uint64, long int) {
	const zeros, tops = 0x3030303030303030, 0x8080808080808080
	eight ^= zeros
	// A byte over 9 has its top bit set, or gets it by having 0x76 added. That may reach the byte above, but not one below.
	bytes := uint(bits.TrailingZeros64((eight+0x7676767676767676|eight)&tops)) / 8
	eight <<= (64 - 8*bytes) % 64 // zeros in front
	eight = eight*10 + eight>>8
	const pair = 0x000000ff000000ff
	return (eight&pair*(100+1_000_000<<32) + eight>>16&pair*(1+10_000<<32)) >> 32, int(bytes)
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
