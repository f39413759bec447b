package event

import (
	_ "embed"
	"unsafe"
)

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

// Kind is the kind of an event.
type Kind uint8

// String returns the kind as the ev field has it.
func (k Kind) String() string {
	if k >= kinds {
		return kindNames[Unknown]
	}
	return kindNames[k]
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
	Absent  bool // null: an optional one that was not there; with All: an empty list
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

// Injected reports whether how names an injection into an instance that exists already, which the instance then keeps.
func Injected(how string) bool { return how == "property" || how == "field" || how == "setter" }

// Stopped reports whether a bye's why says that recording stopped and the process went on.
func Stopped(why string) bool {
	return why == SwitchedOff || why == LimitReached || why == GoesOn
}

func (a *Also) held() int { return int(unsafe.Sizeof(*a)) + len(a.Service) + len(a.Key) }
func (n *Need) held() int {
	return int(unsafe.Sizeof(*n)) + len(n.Site) + len(n.Service) + len(n.Key) + len(n.How)
}
func (w *With) held() int { return int(unsafe.Sizeof(*w)) + len(w.Site) + len(w.Service) + len(w.Key) }
