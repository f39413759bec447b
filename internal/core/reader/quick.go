package reader

import (
	"keenlantern.example/record/event"
)

// quick reads a line of one of the six kinds that make up nearly all of a trace, written the way recorders write it:
// no spaces, whole numbers, texts without escapes. It returns false as soon as it meets anything else, and the line is
// then read again from its start, so that nothing is decided here but speed; FuzzReader holds the two to the same
// event. The event has been Reset.
func (p *Parser) quick() bool {
	e, text := p.ev, p.text
	if len(text) < len(head)+8 || string(text[:len(head)]) != head {
		return false
	}
	i := len(head)
	for i < len(text) && text[i]-'a' < 26 {
		i++
	}
	kind := event.KindOf(text[len(head):i])
	if !isQuick(kind) {
		return false
	}
	if i+3 >= len(text) || text[i] != '"' || text[i+1] != ',' || text[i+2] != '"' {
		return false
	}
	e.Kind = kind
	e.Count, e.Weight = 1, 1
	var has event.Fields
	i += 3
	var members [maxMembers]member
	count, label := 0, len(head)
	for {
		from, word := i, uint64(0)
		for i < len(text) && text[i]-'a' < 26 {
			word = word<<8 | uint64(text[i])
			i++
		}
		if i+3 >= len(text) || text[i] != '"' || text[i+1] != ':' {
			return false
		}
		f := event.FEv
		if w := &words[word*wordHash>>(64-wordBits)]; i-from <= 8 && w.word == word {
			f = w.field
		} else {
			f, _ = event.FieldOf(text[from:i])
		}
		if f == event.FEv || !kind.Allows(f) {
			return false
		}
		has.Set(f)
		i += 2
		one := member{from: label, to: i, field: f}
		switch c := text[i]; {
		case c-'0' <= 9:
			first := i
			n := uint64(c - '0')
			for i++; i < len(text) && text[i]-'0' <= 9; i++ {
				n = n*10 + uint64(text[i]-'0')
			}
			if i-first > maxDigits || c == '0' && i > first+1 || i == len(text) || !p.quickNumber(f, n) {
				return false
			}
		case c == '"':
			i++
			one.to, one.value = i, aText
			end, hash := plainText(text, i)
			into := p.quickText(f)
			if into == nil || end < 0 || end+1 == len(text) {
				return false
			}
			*into = p.names.hashed(text[i:end], hash)
			i = end + 1
		case c == '[' && f == event.FWith:
			one.value = aList
			p.pos = i
			list, ok := p.plainList(e.With[:0])
			e.With = list
			if i = p.pos; !ok || i >= len(text) {
				return false
			}
		default:
			return false
		}
		if count < maxMembers {
			members[count] = one
		}
		count++
		if text[i] == ',' && i+1 < len(text) && text[i+1] == '"' {
			label = i
			i += 2
			continue
		}
		e.Has = has
		if text[i] != '}' || i+1 != len(text) || !has.Has(event.FT) || !kind.Required().Without(has).None() {
			return false
		}
		if p.learns && count <= maxMembers {
			p.shapes.learn(text, kind, members[:count])
		}
		return true
	}
}

// plainList reads what an instance was given, as recorders write it: ids, null, and objects whose members come in the order of
// the format. It moves only if that is what it finds.
func (p *Parser) plainList(list []event.With) ([]event.With, bool) {
	from, text, i := len(list), p.text, p.pos
	if i >= len(text) || text[i] != '[' {
		return list, false
	}
	for i++; ; i++ {
		list = append(list, event.With{Slot: len(list) - from})
		w := &list[len(list)-1]
		n, end := plainNumber(text, i)
		switch {
		case end > 0:
			w.Inst = event.InstID(n)
		case follows(text, i, "null"):
			w.Absent = true
			end = i + len("null")
		default:
			end = p.plainGiven(w, i)
		}
		if end <= 0 || end >= len(text) || text[end] != ',' && text[end] != ']' {
			return list[:from], false
		}
		i = end
		if text[i] == ']' {
			p.pos = i + 1
			return list, true
		}
	}
}

// plainGiven reads an object of such a list and returns where it ends, 0 where it is another than recorders write.
func (p *Parser) plainGiven(w *event.With, i int) (end int) {
	text := p.text
	const inst = `{"inst":`
	if !follows(text, i, inst) {
		return 0
	}
	n, end := plainNumber(text, i+len(inst))
	if end == 0 {
		return 0
	}
	w.Inst = event.InstID(n)
	_, end = p.plainMember(&w.Site, end, `,"site":"`)
	_, end = p.plainMember(&w.Service, end, `,"service":"`)
	w.HasKey, end = p.plainMember(&w.Key, end, `,"key":"`)
	const via = `,"via":`
	if follows(text, end, via) {
		if n, end = plainNumber(text, end+len(via)); n == 0 {
			return 0
		}
		w.Via = event.RegID(n)
	}
	const passing, unseen = `,"kept":false`, `,"unknown":true`
	if w.Passing = follows(text, end, passing); w.Passing {
		end += len(passing)
	}
	if w.Unseen = follows(text, end, unseen); w.Unseen {
		end += len(unseen)
	}
	if !follows(text, end, "}") {
		return 0
	}
	return end + 1
}

// plainMember reads a text if it is what comes next, and returns where it ends.
func (p *Parser) plainMember(into *string, i int, label string) (there bool, end int) {
	if !follows(p.text, i, label) {
		return false, i
	}
	i += len(label)
	end, hash := plainText(p.text, i)
	if end < 0 {
		return false, len(p.text) // where nothing follows
	}
	*into = p.names.hashed(p.text[i:end], hash)
	return true, end + 1
}

func follows(text []byte, i int, what string) bool {
	return len(text)-i >= len(what) && string(text[i:i+len(what)]) == what
}

// plainNumber reads a number and returns where it ends, 0 where there is none that is sure to fit.
func plainNumber(text []byte, i int) (n uint64, end int) {
	first := i
	for i < len(text) && text[i]-'0' <= 9 {
		n = n*10 + uint64(text[i]-'0')
		i++
	}
	if i == first || i-first > maxDigits || text[first] == '0' && i > first+1 {
		return 0, 0
	}
	return n, i
}

// plain reports whether each of eight bytes stands for itself in a text: it is printable ASCII, no quote and no backslash.
func plain(eight uint64) bool {
	const ones, tops = 0x0101010101010101, 0x8080808080808080
	// A byte that is zero, or less than n, has its top bit set in (x - n) &^ x, unless that was set before.
	zero := func(x uint64) uint64 { return (x - ones) &^ x }
	special := zero(eight^ones*'"') | zero(eight^ones*'\\') | zero(eight^ones*0x7f) | (eight-ones*' ')&^eight | eight
	return special&tops == 0
}

// words finds a field whose name has no more than eight letters by these letters as one number. Where two would share
// a place, the later one is looked up in full.
var words = func() (t [1 << wordBits]struct {
	word  uint64
	field event.Field
}) {
	for f := event.FT; f <= event.FMessage; f++ {
		name := f.String()
		if len(name) > 8 {
			continue
		}
		word := uint64(0)
		for _, c := range []byte(name) {
			word = word<<8 | uint64(c)
		}
		if at := &t[word*wordHash>>(64-wordBits)]; at.word == 0 {
			at.word, at.field = word, f
		}
	}
	return t
}()

const (
	wordBits = 9
	wordHash = 0x9E3779B97F4A7C15 // 2^64 over the golden ratio: it spreads what differs in a few bits
)
