package derive

import (
	"encoding/binary"
	"errors"
	"hash/fnv"

	"keenlantern.example/internal/core/ledger"
)

// ChunkRows is how many scopes a full chunk of the log holds.
const ChunkRows = 2048

// ChunkInfo summarises a chunk of the log of scopes, so that a search can skip chunks without a match.
type ChunkInfo struct {
	N        int      `json:"n"` // from 0
	Rows     int      `json:"rows"`
	First    int64    `json:"first"` // ns: the earliest opening
	Last     int64    `json:"last"`  // ns: the latest closing
	FirstID  uint64   `json:"first_id"`
	LastID   uint64   `json:"last_id"`
	Longest  int64    `json:"longest"` // ns
	Findings bool     `json:"findings"`
	Names    []string `json:"names"`  // nil where there are too many to list
	Traces   []byte   `json:"traces"` // a Bloom filter; nil where no scope has a trace
}

// maxChunkNames bounds the names that a ChunkInfo lists.
const maxChunkNames = 256

// Chunk is a part of the log, packed.
type Chunk struct {
	Info ChunkInfo
	Body []byte
}

// log collects rows and hands out full chunks.
type log struct {
	rows []Scope
	n    int
	info []ChunkInfo
	full func(Chunk)
}

func (l *log) add(s Scope) {
	l.rows = append(l.rows, s)
	if len(l.rows) == ChunkRows {
		l.flush()
	}
}

// flush hands out what there is as a chunk.
func (l *log) flush() {
	if len(l.rows) == 0 {
		return
	}
	c := Pack(l.n, l.rows)
	l.n++
	l.info = append(l.info, c.Info)
	l.rows = l.rows[:0]
	if l.full != nil {
		l.full(c)
	}
}

// rowOf makes a log's line of a scope.
func rowOf(s *ledger.Scope, w *ledger.World) Scope {
	row := Scope{
		ID: uint64(s.ID), Name: s.Name, Kind: s.Kind, Trace: s.Trace, Opened: s.Opened, Closed: s.ClosedAt, Open: !s.Ended, Root: s.Root,
		Line: s.Line, LastLine: s.CloseLine, Made: s.Makes, Uses: s.Uses, BuiltNS: s.BuiltNS, Findings: s.Findings,
	}
	if s.Parent != nil {
		row.In = uint64(s.Parent.ID)
	}
	if row.Open {
		row.Closed, row.LastLine = w.T, w.Line
	}
	return row
}

// The filter of a chunk's traces: ten bits for each, four of which are set.
const (
	traceBytes  = ChunkRows * 10 / 8
	traceHashes = 4
)

// spots returns the bits that stand for a trace.
func spots(trace string) [traceHashes]uint32 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(trace)) // never fails
	sum := h.Sum64()
	a, b := uint32(sum), uint32(sum>>32)|1
	var at [traceHashes]uint32
	for n := range at {
		at[n] = (a + uint32(n)*b) % (8 * traceBytes)
	}
	return at
}

// MayHold reports whether the chunk may hold a scope of this trace.
func (c *ChunkInfo) MayHold(trace string) bool {
	if c.Traces == nil {
		return false
	}
	for _, bit := range spots(trace) {
		if c.Traces[bit/8]>>(bit%8)&1 == 0 {
			return false
		}
	}
	return true
}

// texts numbers the texts of a chunk as they come.
type texts struct {
	known map[string]int
	list  []string
	named []bool // those that are names of scopes
}

func (t *texts) number(s string) int {
	at, ok := t.known[s]
	if !ok {
		at = len(t.list)
		t.known[s] = at
		t.list = append(t.list, s)
		t.named = append(t.named, false)
	}
	return at
}

// rowBytes is what most rows take packed, or less.
const rowBytes = 24

// Pack packs rows as the n-th chunk: each number as the difference from the row before, each text once.
func Pack(n int, rows []Scope) Chunk {
	info := ChunkInfo{N: n, Rows: len(rows), First: rows[0].Opened, FirstID: rows[0].ID, LastID: rows[0].ID, Names: []string{}}
	all := texts{known: map[string]int{}}
	b := make([]byte, 0, rowBytes*len(rows))
	var last Scope
	for k := range rows {
		r := &rows[k]
		info.First, info.Last = min(info.First, r.Opened), max(info.Last, r.Closed)
		info.FirstID, info.LastID = min(info.FirstID, r.ID), max(info.LastID, r.ID)
		info.Longest = max(info.Longest, r.Took())
		info.Findings = info.Findings || r.Findings > 0
		if r.Trace != "" {
			if info.Traces == nil {
				info.Traces = make([]byte, traceBytes)
			}
			for _, bit := range spots(r.Trace) {
				info.Traces[bit/8] |= 1 << (bit % 8)
			}
		}
		name := all.number(r.Name)
		if !all.named[name] {
			all.named[name] = true
			if info.Names != nil {
				info.Names = append(info.Names, r.Name)
			}
			if len(info.Names) > maxChunkNames {
				info.Names = nil
			}
		}
		b = binary.AppendVarint(b, int64(r.ID-last.ID))
		b = binary.AppendVarint(b, int64(r.ID-r.In))
		b = binary.AppendUvarint(b, uint64(name))
		b = binary.AppendUvarint(b, uint64(all.number(r.Kind)))
		b = binary.AppendUvarint(b, uint64(len(r.Trace)))
		b = append(b, r.Trace...)
		b = binary.AppendVarint(b, r.Closed-last.Closed)
		b = binary.AppendVarint(b, r.Took())
		b = binary.AppendVarint(b, r.LastLine-last.LastLine)
		b = binary.AppendVarint(b, r.LastLine-r.Line)
		flags := uint64(r.Findings) << 1
		if r.Open {
			flags |= 1
		}
		b = binary.AppendUvarint(b, flags)
		b = binary.AppendUvarint(b, uint64(r.Made))
		b = binary.AppendUvarint(b, uint64(r.Uses))
		b = binary.AppendVarint(b, r.BuiltNS)
		last = *r
	}
	head := binary.AppendUvarint(nil, uint64(len(all.list)))
	for _, s := range all.list {
		head = binary.AppendUvarint(head, uint64(len(s)))
		head = append(head, s...)
	}
	head = binary.AppendUvarint(head, uint64(len(rows)))
	return Chunk{Info: info, Body: append(head, b...)}
}

// errChunk is returned when a stored chunk is not what was packed.
var errChunk = errors.New("a chunk of the log of scopes is damaged")

// Unpack returns the rows of a chunk.
func Unpack(body []byte) ([]Scope, error) {
	u := unpacker{b: body}
	list := make([]string, u.length())
	for n := range list {
		list[n] = u.text(u.length())
	}
	text := func() string {
		at := u.unsigned()
		if at >= uint64(len(list)) {
			u.bad = true
			return ""
		}
		return list[at]
	}
	rows := make([]Scope, u.length())
	var last Scope
	for n := range rows {
		r := &rows[n]
		r.ID = last.ID + uint64(u.signed())
		r.In = r.ID - uint64(u.signed())
		r.Name, r.Kind = text(), text()
		r.Trace = u.text(u.length())
		r.Closed = last.Closed + u.signed()
		r.Opened = r.Closed - u.signed()
		r.LastLine = last.LastLine + u.signed()
		r.Line = r.LastLine - u.signed()
		flags := u.unsigned()
		r.Findings, r.Open = int64(flags>>1), flags&1 == 1
		r.Made, r.Uses = int64(u.unsigned()), int64(u.unsigned())
		r.BuiltNS = u.signed()
		last = *r
		if u.bad {
			return nil, errChunk
		}
	}
	if u.bad || len(u.b) > 0 {
		return nil, errChunk
	}
	return rows, nil
}

type unpacker struct {
	b   []byte
	bad bool
}

func (u *unpacker) unsigned() uint64 {
	v, n := binary.Uvarint(u.b)
	if n <= 0 {
		u.bad, u.b = true, nil
		return 0
	}
	u.b = u.b[n:]
	return v
}

func (u *unpacker) signed() int64 {
	v, n := binary.Varint(u.b)
	if n <= 0 {
		u.bad, u.b = true, nil
		return 0
	}
	u.b = u.b[n:]
	return v
}

// length reads a length, which what is left has to have room for.
func (u *unpacker) length() int {
	n := u.unsigned()
	if n > uint64(len(u.b)) {
		u.bad, u.b = true, nil
		return 0
	}
	return int(n)
}

func (u *unpacker) text(n int) string {
	if n > len(u.b) {
		u.bad, u.b = true, nil
		return ""
	}
	s := string(u.b[:n])
	u.b = u.b[n:]
	return s
}
