package views

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"keenlantern.example/internal/core/derive"
)

// ScopeRow is one scope in a list. Times are in ns since the stream's start.
type ScopeRow struct {
	Stream   int    `json:"stream"` // which of the recording's streams, from 0
	Began    string `json:"began"`  // RFC 3339
	TookNS   int64  `json:"took_ns"`
	ID       uint64 `json:"id"`
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Trace    string `json:"trace"`
	In       uint64 `json:"in"`
	Opened   int64  `json:"opened"`
	Closed   int64  `json:"closed"` // of an open one: the latest time seen
	Open     bool   `json:"open"`
	Root     bool   `json:"root"` // of a container: what was built outside any other scope
	Line     int64  `json:"line"`
	LastLine int64  `json:"last_line"` // of an open one: the latest line
	Made     int64  `json:"made"`
	Uses     int64  `json:"uses"`
	BuiltNS  int64  `json:"built_ns"`
	Findings int64  `json:"findings"` // occurrences that name it
}

// rowOf shows a scope of the n-th stream.
func rowOf(s *StreamSource, n int, row *derive.Scope) ScopeRow {
	start, _ := time.Parse(time.RFC3339, s.Head.Start) // the reader has checked it
	return ScopeRow{
		Stream: n, Began: start.Add(time.Duration(row.Opened)).UTC().Format(time.RFC3339Nano), TookNS: row.Took(),
		ID: row.ID, Name: row.Name, Kind: row.Kind, Trace: row.Trace, In: row.In, Opened: row.Opened, Closed: row.Closed, Open: row.Open, Root: row.Root,
		Line: row.Line, LastLine: row.LastLine, Made: row.Made, Uses: row.Uses, BuiltNS: row.BuiltNS, Findings: row.Findings,
	}
}

// ScopeQuery is which scopes are searched for.
type ScopeQuery struct {
	Stream   int    // which stream; -1: all of them
	Name     string // exactly
	Part     string // a part of the name
	Kind     string
	Trace    string // exactly
	Since    int64  // ns since the stream's start: opened then or later
	Until    int64  // opened before; 0: no bound
	AtLeast  int64  // ns that it was open
	Findings bool   // only those that a finding names
	Longest  bool   // the longest first; otherwise the latest
	Limit    int
	Offset   int
}

// ScopeList is a page of scopes.
type ScopeList struct {
	Recording string     `json:"recording"`
	Roots     []ScopeRow `json:"roots"` // of the containers; they fit, and are on each first page
	Scopes    []ScopeRow `json:"scopes"`
	More      bool       `json:"more"`  // there are others behind these
	Total     int64      `json:"total"` // scopes in the recording, whatever was searched for
	Names     []Named    `json:"names"` // the names there are, the commonest first
}

// Named is a name of scopes.
type Named struct {
	Name   string `json:"name"`
	Kind   string `json:"kind"`
	Scopes int64  `json:"scopes"`
	MeanNS int64  `json:"mean_ns"`
}

// RootName is the address of the first container's root.
const RootName = "root"

// ScopeAt reads a scope's address: its number, or RootName for the first container's root, behind the number of its stream and a dot
// where there are several streams.
func ScopeAt(text string) (stream int, id uint64, ok bool) {
	before, after, several := strings.Cut(text, ".")
	if !several {
		before, after = "0", text
	}
	stream, err := strconv.Atoi(before)
	if err != nil || stream < 0 {
		return 0, 0, false
	}
	if after == RootName {
		return stream, 0, true
	}
	id, err = strconv.ParseUint(after, 10, 53)
	return stream, id, err == nil
}

// fits reports whether a row is searched for.
func (q *ScopeQuery) fits(s *derive.Scope) bool {
	return (q.Name == "" || s.Name == q.Name) && (q.Part == "" || holds(s.Name, q.Part)) && (q.Kind == "" || s.Kind == q.Kind) &&
		(q.Trace == "" || s.Trace == q.Trace) && s.Opened >= q.Since && (q.Until == 0 || s.Opened < q.Until) &&
		s.Took() >= q.AtLeast && (!q.Findings || s.Findings > 0)
}

// may reports whether a chunk can hold such a row.
func (q *ScopeQuery) may(c *derive.ChunkInfo) bool {
	if q.Name != "" && c.Names != nil && !slices.Contains(c.Names, q.Name) {
		return false
	}
	if q.Part != "" && c.Names != nil && !slices.ContainsFunc(c.Names, func(n string) bool { return holds(n, q.Part) }) {
		return false
	}
	return (q.Trace == "" || c.MayHold(q.Trace)) && c.Last >= q.Since && (q.Until == 0 || c.First < q.Until) &&
		c.Longest >= q.AtLeast && (!q.Findings || c.Findings)
}

// Scopes answers: which scopes were there, by name, time, duration, trace, or with findings?
func Scopes(src *Source, q ScopeQuery) (ScopeList, error) {
	list := ScopeList{Recording: src.Recording, Roots: []ScopeRow{}, Scopes: []ScopeRow{}, Names: names(src.State())}
	want := q.Offset + q.Limit + 1
	for n := range src.Streams {
		s := &src.Streams[n]
		list.Total += s.Head.Scopes
		if q.Stream >= 0 && q.Stream != n {
			continue
		}
		for k := range s.Head.Roots {
			if root := &s.Head.Roots[k]; q.Offset == 0 && q.fits(root) {
				list.Roots = append(list.Roots, rowOf(s, n, root))
			}
		}
		found, err := findScopes(s, &q, want)
		if err != nil {
			return list, err
		}
		for _, row := range found {
			list.Scopes = append(list.Scopes, rowOf(s, n, &row))
		}
	}
	if len(src.Streams) > 1 {
		slices.SortStableFunc(list.Scopes, func(a, b ScopeRow) int {
			if q.Longest {
				return cmp.Compare(b.TookNS, a.TookNS)
			}
			return cmp.Compare(b.Began, a.Began)
		})
	}
	list.Scopes = list.Scopes[min(q.Offset, len(list.Scopes)):]
	if len(list.Scopes) > q.Limit {
		list.Scopes, list.More = list.Scopes[:q.Limit], true
	}
	return list, nil
}

// names lists the names of scopes, the commonest first.
func names(s *derive.State) []Named {
	list := []Named{}
	for _, c := range s.Costs {
		if c.Scopes > 0 {
			list = append(list, Named{c.Name, c.Kind, c.Scopes, c.TotalNS / c.Scopes})
		}
	}
	slices.SortStableFunc(list, func(a, b Named) int { return cmp.Compare(b.Scopes, a.Scopes) })
	return list
}

// findScopes returns up to want scopes of one stream, in the order that was asked for.
func findScopes(s *StreamSource, q *ScopeQuery, want int) ([]derive.Scope, error) {
	pending, err := s.Log.Pending()
	if err != nil {
		return nil, err
	}
	found := []derive.Scope{}
	take := func(rows []derive.Scope) {
		for n := len(rows) - 1; n >= 0; n-- {
			if q.fits(&rows[n]) {
				found = append(found, rows[n])
			}
		}
	}
	take(pending)
	chunks := []*derive.ChunkInfo{}
	for n := len(s.Head.Chunks) - 1; n >= 0; n-- {
		if c := &s.Head.Chunks[n]; q.may(c) {
			chunks = append(chunks, c)
		}
	}
	longest := func(a, b derive.Scope) int { return cmp.Compare(b.Took(), a.Took()) }
	if q.Longest {
		slices.SortStableFunc(chunks, func(a, b *derive.ChunkInfo) int { return cmp.Compare(b.Longest, a.Longest) })
		slices.SortStableFunc(found, longest)
	}
	for _, c := range chunks {
		if len(found) >= want && (!q.Longest || found[want-1].Took() >= c.Longest) {
			break
		}
		rows, err := s.Log.Chunk(c.N)
		if err != nil {
			return nil, err
		}
		take(rows)
		if q.Longest {
			slices.SortStableFunc(found, longest)
			found = found[:min(len(found), want)]
		}
	}
	return found[:min(len(found), want)], nil
}

// findScope returns one scope by its id.
func findScope(s *StreamSource, id uint64) (derive.Scope, bool, error) {
	if n := slices.IndexFunc(s.Head.Roots, func(r derive.Scope) bool { return r.ID == id }); n >= 0 {
		return s.Head.Roots[n], true, nil
	}
	pending, err := s.Log.Pending()
	if err != nil {
		return derive.Scope{}, false, err
	}
	is := func(r derive.Scope) bool { return r.ID == id }
	if n := slices.IndexFunc(pending, is); n >= 0 {
		return pending[n], true, nil
	}
	for n := len(s.Head.Chunks) - 1; n >= 0; n-- {
		c := &s.Head.Chunks[n]
		if id < c.FirstID || id > c.LastID {
			continue
		}
		rows, err := s.Log.Chunk(c.N)
		if err != nil {
			return derive.Scope{}, false, err
		}
		if k := slices.IndexFunc(rows, is); k >= 0 {
			return rows[k], true, nil
		}
	}
	return derive.Scope{}, false, nil
}
