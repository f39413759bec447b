package event

import (
	_ "embed"
	"unsafe"
)

// Format is the value of a hello's format field that this package writes and understands.
const Format = "lantern/1"

// MaxNumber bounds every number in a trace: integers stay exact in readers that hold numbers as float64.
const MaxNumber = 1<<53 - 1

//go:embed trace.schema.json
var schema []byte

// Schema returns the JSON Schema (draft 2020-12) of one line. The caller owns the returned bytes.
func Schema() []byte { return append([]byte(nil), schema...) }

// Ids are unique in their stream for their kind. Scopes and containers' root scopes count from 0, the rest from 1;
// an InstID of 0 stands for something that was given and is not recorded.
type (
	ScopeID     uint64
	InstID      uint64
	RegID       uint64
	ContainerID uint64
)

// Kind is what an event tells.
type Kind uint8

// The kinds, in the order of the format's table. Unknown is a kind that this version does not know.
const (
	Unknown Kind = iota
	Hello
	Container
	Register
	Open
	Make
	Give
	Use
	Dispose
	Forget
	Close
	Fail
	Gap
	Bye
	kinds
)

var kindNames = [kinds]string{
	"unknown", "hello", "container", "register", "open", "make", "give", "use", "dispose", "forget", "close", "fail", "gap", "bye",
}

// String returns the kind as the ev field has it.
func (k Kind) String() string {
	if k >= kinds {
		return kindNames[Unknown]
	}
	return kindNames[k]
}

// KindOf returns the kind that ev names, Unknown if none. It does not keep ev.
func KindOf(ev []byte) Kind {
	switch string(ev) {
	case "hello":
		return Hello
	case "container":
		return Container
	case "register":
		return Register
	case "open":
		return Open
	case "make":
		return Make
	case "give":
		return Give
	case "use":
		return Use
	case "dispose":
		return Dispose
	case "forget":
		return Forget
	case "close":
		return Close
	case "fail":
		return Fail
	case "gap":
		return Gap
	case "bye":
		return Bye
	}
	return Unknown
}

// Event is one line of a trace. Which fields mean something depends on Kind and Has; the others are zero.
//
// One Event may be filled again and again: strings stay valid, slices are overwritten. Clone keeps one.
type Event struct {
	Kind Kind
	Line int64  // the line's number in its file or stream, from 1; set by readers
	T    int64  // ns since the stream's start
	Has  Fields // which fields the line carried

	Inst      InstID
	Scope     ScopeID
	Reg       RegID
	Container ContainerID
	To        InstID      // give, fail: who receives or asked
	User      InstID      // use: who called (the field by)
	Owner     ScopeID     // make: the scope it ends with
	OwnerNull bool        // make: owner is null, it lives as long as what keeps it
	InScope   ScopeID     // open: the scope around it (the field in)
	InCont    ContainerID // container: the container around it; register: the one in which it applies as a layer (the field in)
	Via       RegID
	Wraps     RegID
	Alias     RegID
	Proxy     RegID
	For       RegID

	NS     int64 // duration in ns, ending at T
	Count  int64
	Size   int64 // bytes
	Lost   int64
	Weight int64
	PID    int64

	All        bool
	Primary    bool
	Local      bool
	Internal   bool
	Disposable bool
	Shareable  bool
	Optional   bool

	Format, App, Stream, Start, Version, Language, Host, Environment, Recorder string

	Name, At, Duplicates, Cycles                         string
	Service, Impl, Lifetime, Declared, Key, Disposer     string
	Module, ScopeKind, Trace, Ends, By, Entry, How, Site string
	Thread, State, Error, Why, Message                   string
	InModule, InKind                                     string // register: the module, or kind of scope, in which it applies as a layer (in)

	Sees   []string
	Path   []string
	Also   []Also
	Needs  []Need
	With   []With
	Labels map[string]string
}

// Also is a further service and key that a registration's instances answer to.
type Also struct {
	Service string
	Key     string
	HasKey  bool
}

// Need is one thing that construction asks for.
type Need struct {
	Site     string
	Service  string
	Key      string
	HasKey   bool
	How      string // "" is constructor
	All      bool
	Optional bool
	Lazy     bool
}

// With is one thing an instance was given when it was made.
type With struct {
	Slot    int    // the position in the list, from 0; the members of an inner list share theirs
	Inst    InstID // 0: something that is not recorded, or nothing
	Site    string
	Service string
	Key     string
	HasKey  bool
	Via     RegID
	Absent  bool // null: an optional one that was not there
	Passing bool // kept is false: it was only read during construction
	Unseen  bool // unknown is true: something was given and not seen
	All     bool // a member of a list: all were asked for
}

// Why a stream ended, where recording stopped and the process went on: what was open or alive then goes on too.
const (
	SwitchedOff  = "recording was switched off"
	LimitReached = "recording reached its limit"
	GoesOn       = "recording goes on in another stream"
)

// Stopped tells whether a bye's why says that recording stopped and the process went on.
func Stopped(why string) bool {
	return why == SwitchedOff || why == LimitReached || why == GoesOn
}

// Reset empties e for the next line and keeps the room its slices have. The kinds that make up nearly all of a trace
// have few fields, and only those are cleared: the struct is large, and clearing it costs more than reading a line.
func (e *Event) Reset() {
	switch e.Kind {
	case Use:
		e.User, e.Count, e.Thread, e.Site = 0, 0, "", ""
	case Give:
		e.To, e.Via, e.All = 0, 0, false
		e.Entry, e.Service, e.Key, e.How, e.Site, e.Module = "", "", "", "", "", ""
	case Make:
		e.Reg, e.Owner, e.OwnerNull, e.With = 0, 0, false, e.With[:0]
		e.Size, e.Container, e.Disposable = 0, 0, false
		e.By, e.Impl, e.Disposer, e.Module, e.At = "", "", "", "", ""
	case Dispose:
		e.By, e.State, e.Error = "", "", ""
	case Close:
	case Open:
		e.InScope, e.ScopeKind, e.Name, e.Trace, e.Ends = 0, "", "", "", ""
	default:
		sees, path, also, needs, with := e.Sees[:0], e.Path[:0], e.Also[:0], e.Needs[:0], e.With[:0]
		*e = Event{Sees: sees, Path: path, Also: also, Needs: needs, With: with}
		return
	}
	e.Kind, e.Line, e.T, e.Has = Unknown, 0, 0, 0
	e.Inst, e.Scope, e.NS, e.Count, e.Weight = 0, 0, 0, 0, 0
}

// Held returns about how many bytes of memory e takes, its texts and lists included.
func (e *Event) Held() int {
	n := int(unsafe.Sizeof(*e)) +
		len(e.Format) + len(e.App) + len(e.Stream) + len(e.Start) + len(e.Version) + len(e.Language) + len(e.Host) + len(e.Environment) + len(e.Recorder) +
		len(e.Name) + len(e.At) + len(e.Duplicates) + len(e.Cycles) + len(e.Service) + len(e.Impl) + len(e.Lifetime) + len(e.Declared) + len(e.Key) +
		len(e.Disposer) + len(e.Module) + len(e.ScopeKind) + len(e.Trace) + len(e.Ends) + len(e.By) + len(e.Entry) + len(e.How) + len(e.Site) +
		len(e.InModule) + len(e.InKind) + len(e.Thread) + len(e.State) + len(e.Error) + len(e.Why) + len(e.Message)
	for _, s := range e.Sees {
		n += int(unsafe.Sizeof(s)) + len(s)
	}
	for _, s := range e.Path {
		n += int(unsafe.Sizeof(s)) + len(s)
	}
	for k := range e.Also {
		n += int(unsafe.Sizeof(e.Also[k])) + len(e.Also[k].Service) + len(e.Also[k].Key)
	}
	for k := range e.Needs {
		d := &e.Needs[k]
		n += int(unsafe.Sizeof(*d)) + len(d.Site) + len(d.Service) + len(d.Key) + len(d.How)
	}
	for k := range e.With {
		w := &e.With[k]
		n += int(unsafe.Sizeof(*w)) + len(w.Site) + len(w.Service) + len(w.Key)
	}
	for k, v := range e.Labels {
		n += 2*int(unsafe.Sizeof(k)) + len(k) + len(v)
	}
	return n
}

// Clone returns a copy that shares nothing that can change with e.
func (e *Event) Clone() *Event {
	c := *e
	c.Sees = append([]string(nil), e.Sees...)
	c.Path = append([]string(nil), e.Path...)
	c.Also = append([]Also(nil), e.Also...)
	c.Needs = append([]Need(nil), e.Needs...)
	c.With = append([]With(nil), e.With...)
	return &c
}
