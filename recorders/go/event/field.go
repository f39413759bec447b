package event

// Field is one field of a line; Fields is a set of them.
type (
	Field  uint8
	Fields uint64
)

// The fields of all kinds, named as the line names them but for By on a use, which is an instance.
const (
	FEv Field = iota
	FT
	FInst
	FReg
	FFormat
	FApp
	FStream
	FStart
	FVersion
	FLanguage
	FHost
	FPID
	FEnvironment
	FLabels
	FRecorder
	FSees
	FContainer
	FIn
	FScope
	FName
	FAt
	FDuplicates
	FCycles
	FService
	FImpl
	FLifetime
	FDeclared
	FKey
	FAlso
	FNeeds
	FWraps
	FAlias
	FProxy
	FPrimary
	FLocal
	FInternal
	FDisposable
	FDisposer
	FShareable
	FModule
	FKind
	FTrace
	FWeight
	FEnds
	FOwner
	FWith
	FNS
	FBy
	FSize
	FTo
	FEntry
	FVia
	FHow
	FSite
	FAll
	FThread
	FCount
	FState
	FError
	FWhy
	FOptional
	FFor
	FPath
	FLost
)

// FMessage does not fit the 64 of a set with the rest; a fail's message is carried when it is not empty.
const FMessage = Field(64)

// Of makes a set.
func Of(fs ...Field) Fields {
	var s Fields
	for _, f := range fs {
		s |= 1 << f
	}
	return s
}

// Has tells whether f is in the set.
func (s Fields) Has(f Field) bool { return f < 64 && s>>f&1 == 1 }

// Set adds f.
func (s *Fields) Set(f Field) {
	if f < 64 {
		*s |= 1 << f
	}
}

var fieldNames = [...]string{
	"ev", "t", "inst", "reg", "format", "app", "stream", "start", "version", "language", "host", "pid", "environment", "labels",
	"recorder", "sees", "container", "in", "scope", "name", "at", "duplicates", "cycles", "service", "impl",
	"lifetime", "declared", "key", "also", "needs", "wraps", "alias", "proxy", "primary", "local", "internal",
	"disposable", "disposer", "shareable", "module", "kind", "trace", "weight", "ends", "owner", "with", "ns",
	"by", "size", "to", "entry", "via", "how", "site", "all", "thread", "count", "state", "error", "why", "optional",
	"for", "path", "lost", "message",
}

// String returns the field's name in a line.
func (f Field) String() string {
	if int(f) < len(fieldNames) {
		return fieldNames[f]
	}
	return "?"
}

// fieldTable finds a field by its name: open addressing over a hash of the length and three letters, which is several
// times faster than a map of strings, and this runs for every member of every line.
var fieldTable = func() (t [256]uint8) {
	for i, n := range fieldNames {
		at := fieldHash([]byte(n))
		for t[at] != 0 {
			at++
		}
		t[at] = uint8(i + 1)
	}
	return t
}()

func fieldHash(name []byte) uint8 {
	n := len(name)
	return uint8(n) + 3*name[0] + 29*name[n-1] + 7*name[n/2]
}

// FieldOf returns the field that a line's member names. It does not keep name.
func FieldOf(name []byte) (Field, bool) {
	if len(name) == 0 {
		return 0, false
	}
	for at := fieldHash(name); fieldTable[at] != 0; at++ {
		if f := fieldTable[at] - 1; fieldNames[f] == string(name) {
			return Field(f), true
		}
	}
	return 0, false
}

// shape is what one kind's line must and may have.
type shape struct {
	required, optional Fields
	message            bool
}

var shapes = [kinds]shape{
	Hello: {
		required: Of(FFormat, FApp, FStream, FStart),
		optional: Of(FVersion, FLanguage, FHost, FPID, FEnvironment, FLabels, FRecorder, FSees),
	},
	Container: {required: Of(FContainer), optional: Of(FIn, FScope, FName, FAt, FDuplicates, FCycles)},
	Register: {
		required: Of(FReg, FService),
		optional: Of(FImpl, FLifetime, FDeclared, FContainer, FKey, FAlso, FNeeds, FWraps, FAlias, FProxy, FPrimary, FLocal, FIn,
			FInternal, FDisposable, FDisposer, FShareable, FSees, FAt, FModule),
	},
	Open: {required: Of(FScope), optional: Of(FIn, FKind, FName, FTrace, FWeight, FEnds)},
	Make: {
		required: Of(FInst, FScope),
		optional: Of(FReg, FOwner, FWith, FNS, FBy, FImpl, FDisposable, FDisposer, FSize, FModule, FContainer, FAt),
	},
	Give: {
		required: Of(FInst),
		optional: Of(FScope, FTo, FEntry, FService, FKey, FVia, FHow, FSite, FAll, FModule),
	},
	Use:     {required: Of(FInst), optional: Of(FScope, FBy, FNS, FThread, FCount, FSite)},
	Dispose: {required: Of(FInst), optional: Of(FScope, FNS, FBy, FState, FError)},
	Forget:  {optional: Of(FInst, FContainer, FBy)},
	Close:   {required: Of(FScope), optional: Of(FNS)},
	Fail: {
		required: Of(FService, FWhy),
		optional: Of(FOptional, FScope, FKey, FTo, FFor, FPath, FSite), message: true,
	},
	Gap: {required: Of(FLost), optional: Of(FWhy)},
	Bye: {optional: Of(FWhy)},
}

// Required returns the fields that a line of kind k must have, t apart.
func (k Kind) Required() Fields { return shapes[k].required }

// Allows tells whether f means something on a line of kind k. What does not is kept out of the way, never refused.
func (k Kind) Allows(f Field) bool {
	if f == FMessage {
		return shapes[k].message
	}
	return f <= FT || (shapes[k].required | shapes[k].optional).Has(f)
}

// idKind is the kind of thing an id names.
type idKind uint8

// The kinds of id that one line defines and another may wait for.
const (
	ScopeRef idKind = iota
	InstRef
	ContainerRef
)

// Ref names one thing of a stream.
type Ref struct {
	Kind idKind
	ID   uint64
}

// Defines returns what e brings into being for lines that are about it, and whether it does.
func (e *Event) Defines() (Ref, bool) {
	switch e.Kind {
	case Open:
		return Ref{ScopeRef, uint64(e.Scope)}, true
	case Make:
		return Ref{InstRef, uint64(e.Inst)}, true
	case Container:
		return Ref{ContainerRef, uint64(e.Container)}, true
	}
	return Ref{}, false
}

// About appends to refs what has to be known before e means anything, the one it is about first. A make, a register
// and an open never wait: what they mention may come later, even mutually.
func (e *Event) About(refs []Ref) []Ref {
	switch e.Kind {
	case Give:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		if e.Has.Has(FTo) {
			refs = append(refs, Ref{InstRef, uint64(e.To)})
		}
	case Use:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		if e.Has.Has(FBy) {
			refs = append(refs, Ref{InstRef, uint64(e.User)})
		}
	case Dispose:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
	case Forget:
		if e.Has.Has(FInst) {
			refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		} else {
			refs = append(refs, Ref{ContainerRef, uint64(e.Container)})
		}
	case Fail:
		if e.Has.Has(FTo) {
			refs = append(refs, Ref{InstRef, uint64(e.To)})
		}
	case Close:
		return append(refs, Ref{ScopeRef, uint64(e.Scope)})
	default:
		return refs
	}
	if e.Has.Has(FScope) {
		refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
	}
	return refs
}
