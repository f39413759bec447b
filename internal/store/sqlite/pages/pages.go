package pages

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
)

// The layout of a database (section 1 of the format).
const (
	headerBytes = 100
	defaultSize = 4096
	tableLeaf   = 0x0d
	minCell     = 4
)

// Values are the columns of a row: nil, int64, float64, string or []byte. Where a row's last columns cannot be read, it is shorter.
type Values []any

// Database is an open database file.
type Database struct {
	file  *os.File
	size  int // of a page
	count int64
	log   *wal
	// Header reports whether the first page is a database's header.
	Header bool
}

// Open opens a database for reading, and the write-ahead log beside it if there is one. The caller closes it.
func Open(path string) (*Database, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, fmt.Errorf("open the database: %w", err)
	}
	d := &Database{file: file, size: defaultSize}
	head := make([]byte, headerBytes)
	if _, err := file.ReadAt(head, 0); err == nil && string(head[:16]) == "SQLite format 3\x00" {
		d.Header = true
		if size := int(binary.BigEndian.Uint16(head[16:])); size == 1 {
			d.size = 65_536
		} else if size >= 512 && size&(size-1) == 0 {
			d.size = size
		}
	}
	info, err := file.Stat()
	if err != nil {
		return nil, errors.Join(fmt.Errorf("open the database: %w", err), file.Close())
	}
	d.count = info.Size() / int64(d.size)
	if d.log, err = openWAL(path+"-wal", d.size); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	if d.log != nil {
		d.count = max(d.count, d.log.pages)
	}
	return d, nil
}

// LostFrames reports whether the write-ahead log of a database holds frames behind a damaged one: transactions that had been stored are lost
// then.
func LostFrames(path string) (bool, error) {
	d, err := Open(path)
	if err != nil {
		return false, err
	}
	return d.LostFrames(), d.Close()
}

// Close closes the files.
func (d *Database) Close() error { return errors.Join(d.file.Close(), d.log.Close()) }

// LostFrames reports whether the write-ahead log holds frames behind a damaged one.
func (d *Database) LostFrames() bool { return d.log != nil && d.log.lost }

// page returns a page as it is now, counted from 1; nil where it cannot be read.
func (d *Database) page(n int64) []byte {
	if n < 1 || n > d.count {
		return nil
	}
	p := make([]byte, d.size)
	if d.log != nil {
		if at, there := d.log.frames[n]; there {
			if _, err := d.log.file.ReadAt(p, at); err != nil {
				return nil
			}
			return p
		}
	}
	if _, err := d.file.ReadAt(p, (n-1)*int64(d.size)); err != nil {
		return nil
	}
	return p
}

// freePages follows the list of free pages, whose leaves may still look like rows that were deleted (section 1.5).
func (d *Database) freePages() map[int64]bool {
	free := map[int64]bool{}
	first := d.page(1)
	if first == nil || !d.Header {
		return free
	}
	for trunk := int64(binary.BigEndian.Uint32(first[32:])); trunk != 0 && !free[trunk]; {
		p := d.page(trunk)
		if p == nil {
			break
		}
		free[trunk] = true
		n := min(int(binary.BigEndian.Uint32(p[4:])), d.size/4-2)
		for k := range n {
			free[int64(binary.BigEndian.Uint32(p[8+4*k:]))] = true
		}
		trunk = int64(binary.BigEndian.Uint32(p))
	}
	return free
}

// Place is where a row is stored.
type Place struct {
	page int64
	cell int // its offset in the page
}

// Rows calls f for each row of each table leaf that can be read, in the order of the pages. Wanted reports for a number of columns whether
// such rows are decoded.
func (d *Database) Rows(wanted func(columns int) bool, f func(at Place, rowid int64, row Values) error) error {
	free := d.freePages()
	for n := int64(1); n <= d.count; n++ {
		p := d.page(n)
		if p == nil || free[n] {
			continue
		}
		at := 0
		if n == 1 {
			at = headerBytes
		}
		if p[at] != tableLeaf {
			continue
		}
		cells := int(binary.BigEndian.Uint16(p[at+3:]))
		for k := range cells {
			pointer := at + 8 + 2*k
			if pointer+2 > len(p) {
				break
			}
			cell := int(binary.BigEndian.Uint16(p[pointer:]))
			if cell < at+8 || cell > len(p)-minCell {
				continue
			}
			if id, row, ok := d.row(p, cell, wanted); ok {
				if err := f(Place{n, cell}, id, row); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Row reads a row again, nil where it cannot be read.
func (d *Database) Row(at Place) Values {
	p := d.page(at.page)
	if p == nil {
		return nil
	}
	_, row, _ := d.row(p, at.cell, func(int) bool { return true })
	return row
}

// row reads one cell of a table leaf (sections 1.6 and 2.1).
func (d *Database) row(p []byte, at int, wanted func(int) bool) (int64, Values, bool) {
	size, n := varint(p[at:])
	if n == 0 || size > math.MaxInt32 {
		return 0, nil, false
	}
	at += n
	id, n := varint(p[at:])
	if n == 0 {
		return 0, nil, false
	}
	at += n
	local := d.local(int(size))
	if at+local > len(p) {
		return 0, nil, false
	}
	body := &payload{d: d, have: p[at : at+local], size: int(size)}
	if local < int(size) {
		if at+local+4 > len(p) {
			return 0, nil, false
		}
		body.next = int64(binary.BigEndian.Uint32(p[at+local:]))
	}
	row, ok := body.values(wanted)
	return int64(id), row, ok
}

// local returns how many bytes of a payload are in the cell itself (section 1.6).
func (d *Database) local(size int) int {
	most := d.size - 35
	if size <= most {
		return size
	}
	least := (d.size-12)*32/255 - 23
	if n := least + (size-least)%(d.size-4); n <= most {
		return n
	}
	return least
}

// payload is a row's bytes; those on overflow pages are read on demand.
type payload struct {
	d    *Database
	have []byte
	own  bool // have is a copy
	size int
	next int64 // page
}

// read returns the bytes from one place to another, false where a page of them cannot be read.
func (b *payload) read(from, to int) ([]byte, bool) {
	if from < 0 || to > b.size || from > to {
		return nil, false
	}
	for len(b.have) < to {
		p := b.d.page(b.next)
		if p == nil {
			return nil, false
		}
		b.next = int64(binary.BigEndian.Uint32(p))
		if !b.own { // have is a slice of the page, followed by other cells
			b.have, b.own = bytes.Clone(b.have), true
		}
		b.have = append(b.have, p[4:4+min(b.size-len(b.have), len(p)-4)]...)
	}
	return b.have[from:to], true
}

// values decodes a record (section 2.1).
func (b *payload) values(wanted func(int) bool) (Values, bool) {
	start, ok := b.read(0, min(9, b.size))
	if !ok {
		return nil, false
	}
	header, n := varint(start)
	if n == 0 || header > uint64(min(b.size, 10_000)) || header < uint64(n) {
		return nil, false
	}
	types, ok := b.read(n, int(header))
	if !ok {
		return nil, false
	}
	var kinds []uint64
	for len(types) > 0 {
		kind, n := varint(types)
		if n == 0 {
			return nil, false
		}
		kinds = append(kinds, kind)
		types = types[n:]
	}
	if !wanted(len(kinds)) {
		return nil, false
	}
	at := int(header)
	row := make(Values, 0, len(kinds))
	for _, kind := range kinds {
		width := widthOf(kind)
		if width < 0 {
			return nil, false
		}
		raw, ok := b.read(at, at+width)
		if !ok {
			return row, len(row) > 0
		}
		at += width
		row = append(row, valueOf(kind, raw))
	}
	return row, true
}

// widthOf returns how many bytes a value of a serial type takes, -1 where there is no such type.
func widthOf(kind uint64) int {
	switch {
	case kind <= 4:
		return int(kind)
	case kind == 5:
		return 6
	case kind <= 7:
		return 8
	case kind <= 9:
		return 0
	case kind < 12 || kind > math.MaxInt32:
		return -1
	}
	return int(kind-12) / 2
}

func valueOf(kind uint64, raw []byte) any {
	switch {
	case kind == 0:
		return nil
	case kind <= 6:
		n := int64(int8(raw[0]))
		for _, b := range raw[1:] {
			n = n<<8 | int64(b)
		}
		return n
	case kind == 7:
		return math.Float64frombits(binary.BigEndian.Uint64(raw))
	case kind == 8:
		return int64(0)
	case kind == 9:
		return int64(1)
	case kind%2 == 0:
		return raw
	}
	return string(raw)
}

// varint reads a number of one to nine bytes. N is 0 where it is cut off.
func varint(b []byte) (v uint64, n int) {
	for n < len(b) {
		c := b[n]
		n++
		if n == 9 {
			return v<<8 | uint64(c), n
		}
		v = v<<7 | uint64(c&0x7f)
		if c < 0x80 {
			return v, n
		}
	}
	return 0, 0
}

// wal is a write-ahead log (section 4).
type wal struct {
	file   *os.File
	frames map[int64]int64 // where the latest stored image of a page begins
	pages  int64           // of the database after the last transaction
	lost   bool
}

const (
	walHeader   = 32
	frameHeader = 24
	walMagic    = 0x377f0682 // the last bit: checksums are big-endian
)

// openWAL reads a log's frames up to its last transaction that is whole; nil where there is no log.
func openWAL(path string, size int) (*wal, error) {
	file, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("open the write-ahead log: %w", err)
	}
	w := &wal{file: file, frames: map[int64]int64{}}
	head := make([]byte, walHeader)
	if _, err := io.ReadFull(file, head); err != nil {
		return w, nil //nolint:nilerr // it is empty
	}
	magic := binary.BigEndian.Uint32(head)
	if magic&^1 != walMagic || int(binary.BigEndian.Uint32(head[8:])) != size {
		w.lost = true
		return w, nil
	}
	var order binary.ByteOrder = binary.LittleEndian
	if magic&1 == 1 {
		order = binary.BigEndian
	}
	sum := checksum(order, [2]uint32{}, head[:24])
	if sum != [2]uint32{binary.BigEndian.Uint32(head[24:]), binary.BigEndian.Uint32(head[28:])} {
		w.lost = true
		return w, nil
	}
	frame := make([]byte, frameHeader+size)
	open := map[int64]int64{} // of a transaction that has not ended
	ended, broken := false, false
	for at := int64(walHeader); ; at += int64(len(frame)) {
		if _, err := file.ReadAt(frame, at); err != nil {
			return w, nil //nolint:nilerr // a frame that is not whole was never stored
		}
		if string(frame[8:16]) != string(head[16:24]) { // of an earlier use of the file
			return w, nil
		}
		commit := int64(binary.BigEndian.Uint32(frame[4:]))
		if broken {
			// Frames after the end of a transaction were written after that transaction had been stored.
			if w.lost = w.lost || ended; w.lost {
				return w, nil
			}
			ended = commit > 0
			continue
		}
		sum = checksum(order, checksum(order, sum, frame[:8]), frame[frameHeader:])
		if sum != [2]uint32{binary.BigEndian.Uint32(frame[16:]), binary.BigEndian.Uint32(frame[20:])} {
			broken, ended = true, commit > 0
			continue
		}
		open[int64(binary.BigEndian.Uint32(frame))] = at + frameHeader
		if commit > 0 {
			for n, at := range open {
				w.frames[n] = at
			}
			clear(open)
			w.pages = commit
		}
	}
}

// Close closes the log. A nil wal is closed.
func (w *wal) Close() error {
	if w == nil {
		return nil
	}
	return w.file.Close()
}

// checksum goes on with a checksum (section 4.2).
func checksum(order binary.ByteOrder, s [2]uint32, b []byte) [2]uint32 {
	for ; len(b) >= 8; b = b[8:] {
		s[0] += order.Uint32(b) + s[1]
		s[1] += order.Uint32(b[4:]) + s[0]
	}
	return s
}
