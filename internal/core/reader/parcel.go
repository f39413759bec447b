package reader

import (
	"math"

	"keenlantern.example/record/event"
)

// Parcel takes lines from the core that reads to the one that analyses. An Event is large and mostly empty; here, what a
// line of a quick kind has stands side by side, so that few pieces of memory change hands for each. Lines of other kinds
// go as they are.
//
// It is filled by Add until it is Full, emptied by Take, and used again after Reset.
type Parcel struct {
	numbers []uint64
	texts   []string
	lines   []Line // those that are not packed
	n       int

	// How far Take has come.
	taken, numberAt, textAt, lineAt int
}

// parcelLines is how many lines go together: enough that handing them over costs nothing, and few enough to be still cached.
const parcelLines = 256

// parcelNumbers bounds what is packed: past it, a parcel is full before it has all its lines.
const parcelNumbers = 16 << 10

// asItIs stands where a line's kind does for one that is not packed.
const asItIs = uint64(255)

// Full reports whether nothing more should be added.
func (p *Parcel) Full() bool { return p.n >= parcelLines || len(p.numbers) >= parcelNumbers }

// Reset empties p.
func (p *Parcel) Reset() {
	clear(p.texts)
	clear(p.lines)
	*p = Parcel{numbers: p.numbers[:0], texts: p.texts[:0], lines: p.lines[:0]}
	if cap(p.numbers) > 4*parcelNumbers {
		p.numbers = nil
	}
}

// Len returns how many lines there are that have not been taken.
func (p *Parcel) Len() int { return p.n - p.taken }

// Add takes a line, without its Text.
func (p *Parcel) Add(line *Line) {
	p.n++
	e := line.Event
	if e == nil || !isQuick(e.Kind) {
		p.number(asItIs)
		other := *line
		other.Text = nil
		if e != nil {
			other.Event = e.Clone()
		}
		p.lines = append(p.lines, other)
		return
	}
	low, high := e.Has.Bits()
	p.numbers = append(p.numbers, uint64(e.Kind), uint64(line.Number), uint64(e.T), low, high)
	p.pack(e)
}

// Take takes the next line out. The room is for its event, where it is packed; it must have been Reset, or be new.
func (p *Parcel) Take(room *event.Event) Line {
	p.taken++
	n := p.numbers[p.numberAt:]
	if n[0] == asItIs {
		p.numberAt++
		p.lineAt++
		return p.lines[p.lineAt-1]
	}
	p.numberAt += 5
	room.Kind, room.Line, room.T, room.Has = event.Kind(n[0]), int64(n[1]), int64(n[2]), event.FieldsOf(n[3], n[4])
	room.Count, room.Weight = 1, 1
	p.unpack(room)
	return Line{Number: room.Line, Event: room}
}

func (p *Parcel) number(n uint64) { p.numbers = append(p.numbers, n) }
func (p *Parcel) text(s string)   { p.texts = append(p.texts, s) }

func (p *Parcel) flag(yes bool) {
	n := uint64(0)
	if yes {
		n = 1
	}
	p.number(n)
}

func (p *Parcel) nextText() string {
	p.textAt++
	return p.texts[p.textAt-1]
}

// What a With has besides the instance, above its place in the list.
const (
	withTexts = 1 << (32 + iota)
	withKey
	withAbsent
	withPassing
	withUnseen
	withAll
)

func (p *Parcel) with(list []event.With) {
	p.number(uint64(len(list)))
	for n := range list {
		g := &list[n]
		says := uint64(uint32(g.Slot))
		if g.Site != "" || g.Service != "" || g.HasKey || g.Via != 0 {
			says |= withTexts
		}
		if g.HasKey {
			says |= withKey
		}
		if g.Absent {
			says |= withAbsent
		}
		if g.Passing {
			says |= withPassing
		}
		if g.Unseen {
			says |= withUnseen
		}
		if g.All {
			says |= withAll
		}
		p.number(says)
		p.number(uint64(g.Inst))
		if says&withTexts != 0 {
			p.number(uint64(g.Via))
			p.text(g.Site)
			p.text(g.Service)
			p.text(g.Key)
		}
	}
}

func (p *Parcel) nextWith(list []event.With, at int) ([]event.With, int) {
	n := p.numbers
	many := int(n[at])
	at++
	for range many {
		says := n[at]
		g := event.With{Slot: int(uint32(says)), Inst: event.InstID(n[at+1])}
		at += 2
		if says > math.MaxUint32 {
			g.HasKey, g.Absent, g.Passing, g.Unseen, g.All = says&withKey != 0, says&withAbsent != 0, says&withPassing != 0, says&withUnseen != 0, says&withAll != 0
			if says&withTexts != 0 {
				g.Via, g.Site, g.Service, g.Key = event.RegID(n[at]), p.nextText(), p.nextText(), p.nextText()
				at++
			}
		}
		list = append(list, g)
	}
	return list, at
}
