// Code generated from spec/events.yaml. DO NOT EDIT.

package event

import (
	"strconv"
	"unsafe"
)

// Format is the value of a hello's format field that this package writes and understands.
const Format = "lantern/1"

// MaxNumber bounds every number in a trace: integers stay exact in readers that hold numbers as float64.
const MaxNumber = 9007199254740991

// MaxText is the longest text in bytes that a trace may have in a field.
const MaxText = 4096

// The kinds, in the order of the format's table. Unknown is a kind that this version does not know.
const (
	Unknown Kind = iota
	Hello
	Container
	Register
	Open
	Join
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
	"unknown",
	"hello",
	"container",
	"register",
	"open",
	"join",
	"make",
	"give",
	"use",
	"dispose",
	"forget",
	"close",
	"fail",
	"gap",
	"bye",
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
	case "join":
		return Join
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

// The fields of all kinds, named as a line names them.
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
	FPer
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
	FTemplate
	FFormOf
	FPooled
	FPrimary
	FLocal
	FInternal
	FDisposable
	FDisposer
	FMechanism
	FSignature
	FShareable
	FModule
	FKind
	FTrace
	FWeight
	FEnds
	FCloser
	FOpener
	FWithin
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
	FMessage
	fields
)

var fieldNames = [fields]string{
	"ev",
	"t",
	"inst",
	"reg",
	"format",
	"app",
	"stream",
	"start",
	"version",
	"language",
	"host",
	"pid",
	"environment",
	"labels",
	"recorder",
	"sees",
	"container",
	"in",
	"scope",
	"name",
	"at",
	"duplicates",
	"cycles",
	"per",
	"service",
	"impl",
	"lifetime",
	"declared",
	"key",
	"also",
	"needs",
	"wraps",
	"alias",
	"proxy",
	"template",
	"form_of",
	"pooled",
	"primary",
	"local",
	"internal",
	"disposable",
	"disposer",
	"mechanism",
	"signature",
	"shareable",
	"module",
	"kind",
	"trace",
	"weight",
	"ends",
	"closer",
	"opener",
	"within",
	"owner",
	"with",
	"ns",
	"by",
	"size",
	"to",
	"entry",
	"via",
	"how",
	"site",
	"all",
	"thread",
	"count",
	"state",
	"error",
	"why",
	"optional",
	"for",
	"path",
	"lost",
	"message",
}

var shapes = [kinds]shape{
	Hello:     {required: Of(FFormat, FApp, FStream, FStart), optional: Of(FVersion, FLanguage, FHost, FPID, FEnvironment, FLabels, FRecorder, FSees)},
	Container: {required: Of(FContainer), optional: Of(FIn, FScope, FName, FAt, FDuplicates, FCycles, FPer)},
	Register:  {required: Of(FReg, FService), optional: Of(FImpl, FLifetime, FDeclared, FContainer, FKey, FAlso, FNeeds, FWraps, FAlias, FProxy, FTemplate, FFormOf, FPooled, FPrimary, FLocal, FIn, FInternal, FDisposable, FDisposer, FMechanism, FShareable, FSignature, FSees, FAt, FModule)},
	Open:      {required: Of(FScope), optional: Of(FIn, FKind, FName, FTrace, FWeight, FEnds, FCloser, FOpener, FWithin, FAt)},
	Join:      {required: Of(FIn, FScope), optional: Of()},
	Make:      {required: Of(FInst, FScope), optional: Of(FReg, FOwner, FWith, FNS, FBy, FImpl, FDisposable, FDisposer, FSize, FModule, FContainer, FAt)},
	Give:      {required: Of(FInst), optional: Of(FScope, FTo, FEntry, FService, FKey, FVia, FHow, FSite, FAll, FModule)},
	Use:       {required: Of(FInst), optional: Of(FScope, FBy, FNS, FThread, FCount, FSite)},
	Dispose:   {required: Of(FInst), optional: Of(FScope, FNS, FBy, FState, FError)},
	Forget:    {required: Of(), optional: Of(FInst, FContainer, FBy)},
	Close:     {required: Of(FScope), optional: Of(FNS)},
	Fail:      {required: Of(FService, FWhy), optional: Of(FOptional, FScope, FKey, FTo, FFor, FPath, FEntry, FError, FMessage, FSite, FAt)},
	Gap:       {required: Of(FLost), optional: Of(FWhy)},
	Bye:       {required: Of(), optional: Of(FWhy)},
}

// Words returns the words that have a meaning in a field of a kind, nil where any text has.
func Words(k Kind, f Field) []string {
	switch f {
	case FSees:
		return []string{"with", "shared", "use", "dispose", "dispose-code", "closes", "fail"}
	case FDuplicates:
		return []string{"last", "first", "primary", "error"}
	case FCycles:
		return []string{"refused", "proxied"}
	case FLifetime:
		return []string{"singleton", "scoped", "transient", "per-consumer", "external"}
	case FDeclared:
		return []string{"singleton", "scoped", "transient", "per-consumer", "external"}
	case FTemplate:
		return []string{"any-key", "any-type"}
	case FDisposer:
		return []string{"container", "code", "nobody"}
	case FMechanism:
		return []string{"interface", "annotation", "name", "code"}
	case FEnds:
		return []string{"seen", "unknown", "shutdown"}
	case FCloser:
		return []string{"framework", "code", "unknown"}
	case FBy:
		if k == Make {
			return []string{"container", "factory", "external", "direct"}
		}
		if k == Dispose {
			return []string{"container", "owner", "code", "runtime"}
		}
		if k == Forget {
			return []string{"runtime", "container"}
		}
	case FHow:
		return []string{"constructor", "property", "field", "setter", "method", "locator", "factory", "provider"}
	case FState:
		return []string{"begun", "done", "failed", "handed", "refused", "returned"}
	case FWhy:
		if k == Fail {
			return []string{"missing", "cycle", "ambiguous", "constructors", "lifetime", "no-scope", "closed", "error"}
		}
	}
	return nil
}

// AllFields is how many fields there are: they are numbered from 0.
const AllFields = fields

// Text returns the value of a field that is one text on e's line, false for any other.
func (e *Event) Text(f Field) (string, bool) {
	switch f {
	case FFormat:
		return e.Format, true
	case FApp:
		return e.App, true
	case FStream:
		return e.Stream, true
	case FStart:
		return e.Start, true
	case FVersion:
		return e.Version, true
	case FLanguage:
		return e.Language, true
	case FHost:
		return e.Host, true
	case FEnvironment:
		return e.Environment, true
	case FRecorder:
		return e.Recorder, true
	case FName:
		return e.Name, true
	case FAt:
		return e.At, true
	case FDuplicates:
		return e.Duplicates, true
	case FCycles:
		return e.Cycles, true
	case FPer:
		return e.Per, true
	case FService:
		return e.Service, true
	case FImpl:
		return e.Impl, true
	case FLifetime:
		return e.Lifetime, true
	case FDeclared:
		return e.Declared, true
	case FKey:
		return e.Key, true
	case FDisposer:
		return e.Disposer, true
	case FMechanism:
		return e.Mechanism, true
	case FSignature:
		return e.Signature, true
	case FModule:
		return e.Module, true
	case FKind:
		return e.ScopeKind, true
	case FTrace:
		return e.Trace, true
	case FEnds:
		return e.Ends, true
	case FCloser:
		return e.Closer, true
	case FBy:
		if e.Kind == Use {
			return "", false
		}
		return e.By, true
	case FEntry:
		return e.Entry, true
	case FHow:
		return e.How, true
	case FSite:
		return e.Site, true
	case FThread:
		return e.Thread, true
	case FState:
		return e.State, true
	case FError:
		return e.Error, true
	case FWhy:
		return e.Why, true
	case FMessage:
		return e.Message, true
	}
	return "", false
}

// Event is one line of a trace. Which fields mean something depends on Kind and Has; the others are zero.
//
// One Event may be filled again and again: strings stay valid, slices are overwritten. Clone keeps one.
type Event struct {
	Kind Kind
	Line int64  // the line's number in its file or stream, from 1; set by readers
	T    int64  // ns since the stream's start
	Has  Fields // which fields the line carried

	InScope     ScopeID // open: the scope around it (the field in)
	Scope       ScopeID
	Within      ScopeID // open: the scope whose work opened this one, which does not lie in it
	Owner       ScopeID // make: the scope it ends with
	Inst        InstID
	Opener      InstID // the instance that opened the scope
	To          InstID // give, fail: who receives or asked
	User        InstID // use: who called (the field by)
	Reg         RegID
	Wraps       RegID
	Alias       RegID
	Proxy       RegID
	FormOf      RegID // the template that this is a closed form of
	Via         RegID
	For         RegID
	Container   ContainerID
	InCont      ContainerID // container: the container around it; register: the one in which it applies as a layer (the field in)
	PID         int64
	Weight      int64
	NS          int64 // duration in ns, ending at T
	Size        int64 // bytes
	Count       int64
	Lost        int64
	Pooled      bool
	Primary     bool
	Local       bool
	Internal    bool
	Disposable  bool
	Shareable   bool
	OwnerNull   bool // owner is null, which means something
	All         bool
	Optional    bool
	Format      string
	App         string
	Stream      string
	Start       string
	Version     string
	Language    string
	Host        string
	Environment string
	Recorder    string
	Name        string
	At          string
	Duplicates  string
	Cycles      string
	Per         string // container: what one such container is built for each of, such as tenant
	Service     string
	Impl        string
	Lifetime    string
	Declared    string
	Key         string
	Disposer    string
	Mechanism   string // how instances declare that they are to be disposed
	Signature   string // of the constructor that the container chose
	Module      string
	ScopeKind   string
	Trace       string
	Ends        string
	Closer      string // who has to close the scope
	By          string
	Entry       string
	How         string
	Site        string
	Thread      string
	State       string
	Error       string
	Why         string
	Message     string
	InModule    string // register: the module in which it applies as a layer (the field in)
	InKind      string // register: the kind of scope in which it applies as a layer (the field in)
	Sees        []string
	Template    []string // what it answers for any of
	Path        []string
	Also        []Also
	Needs       []Need
	With        []With
	Labels      map[string]string
}

// Reset empties e for the next line and keeps the room its slices have. The kinds that make up nearly all of a trace
// have few fields, and only those are cleared: the struct is large, and clearing it costs more than reading a line.
func (e *Event) Reset() {
	switch e.Kind {
	case Open:
		e.Scope = 0
		e.InScope = 0
		e.ScopeKind = ""
		e.Name = ""
		e.Trace = ""
		e.Ends = ""
		e.Closer = ""
		e.Opener = 0
		e.Within = 0
		e.At = ""
	case Make:
		e.Inst = 0
		e.Scope = 0
		e.Reg = 0
		e.Owner = 0
		e.OwnerNull = false
		e.With = e.With[:0]
		e.NS = 0
		e.By = ""
		e.Impl = ""
		e.Disposable = false
		e.Disposer = ""
		e.Size = 0
		e.Module = ""
		e.Container = 0
		e.At = ""
	case Give:
		e.Inst = 0
		e.Scope = 0
		e.To = 0
		e.Entry = ""
		e.Service = ""
		e.Key = ""
		e.Via = 0
		e.How = ""
		e.Site = ""
		e.All = false
		e.Module = ""
	case Use:
		e.Inst = 0
		e.Scope = 0
		e.User = 0
		e.NS = 0
		e.Thread = ""
		e.Site = ""
	case Dispose:
		e.Inst = 0
		e.Scope = 0
		e.NS = 0
		e.By = ""
		e.State = ""
		e.Error = ""
	case Close:
		e.Scope = 0
		e.NS = 0
	default:
		sees := e.Sees[:0]
		template := e.Template[:0]
		path := e.Path[:0]
		also := e.Also[:0]
		needs := e.Needs[:0]
		with := e.With[:0]
		*e = Event{Sees: sees, Template: template, Path: path, Also: also, Needs: needs, With: with}
		return
	}
	e.Kind, e.Line, e.T, e.Has, e.Count, e.Weight = Unknown, 0, 0, Fields{}, 0, 0
}

// Held returns about how many bytes of memory e takes, its texts and lists included.
func (e *Event) Held() int {
	n := int(unsafe.Sizeof(*e))
	n += len(e.Format)
	n += len(e.App)
	n += len(e.Stream)
	n += len(e.Start)
	n += len(e.Version)
	n += len(e.Language)
	n += len(e.Host)
	n += len(e.Environment)
	n += len(e.Recorder)
	n += len(e.Name)
	n += len(e.At)
	n += len(e.Duplicates)
	n += len(e.Cycles)
	n += len(e.Per)
	n += len(e.Service)
	n += len(e.Impl)
	n += len(e.Lifetime)
	n += len(e.Declared)
	n += len(e.Key)
	n += len(e.Disposer)
	n += len(e.Mechanism)
	n += len(e.Signature)
	n += len(e.Module)
	n += len(e.ScopeKind)
	n += len(e.Trace)
	n += len(e.Ends)
	n += len(e.Closer)
	n += len(e.By)
	n += len(e.Entry)
	n += len(e.How)
	n += len(e.Site)
	n += len(e.Thread)
	n += len(e.State)
	n += len(e.Error)
	n += len(e.Why)
	n += len(e.Message)
	n += len(e.InModule)
	n += len(e.InKind)
	for _, s := range e.Sees {
		n += int(unsafe.Sizeof(s)) + len(s)
	}
	for _, s := range e.Template {
		n += int(unsafe.Sizeof(s)) + len(s)
	}
	for _, s := range e.Path {
		n += int(unsafe.Sizeof(s)) + len(s)
	}
	for k := range e.Also {
		n += e.Also[k].held()
	}
	for k := range e.Needs {
		n += e.Needs[k].held()
	}
	for k := range e.With {
		n += e.With[k].held()
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
	c.Template = append([]string(nil), e.Template...)
	c.Path = append([]string(nil), e.Path...)
	c.Also = append([]Also(nil), e.Also...)
	c.Needs = append([]Need(nil), e.Needs...)
	c.With = append([]With(nil), e.With...)
	return &c
}

// Defines returns what e brings into being for lines that are about it, and whether it does.
func (e *Event) Defines() (Ref, bool) {
	switch e.Kind {
	case Container:
		return Ref{ContainerRef, uint64(e.Container)}, true
	case Open:
		return Ref{ScopeRef, uint64(e.Scope)}, true
	case Make:
		return Ref{InstRef, uint64(e.Inst)}, true
	}
	return Ref{}, false
}

// About appends to refs what has to be known before e means anything, the one it is about first. A make, a register
// and an open never wait: what they mention may come later, even mutually.
func (e *Event) About(refs []Ref) []Ref {
	switch e.Kind {
	case Join:
		refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
		refs = append(refs, Ref{ScopeRef, uint64(e.InScope)})
	case Give:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		if e.Has.Has(FTo) {
			refs = append(refs, Ref{InstRef, uint64(e.To)})
		}
		if e.Has.Has(FScope) {
			refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
		}
	case Use:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		if e.Has.Has(FBy) {
			refs = append(refs, Ref{InstRef, uint64(e.User)})
		}
		if e.Has.Has(FScope) {
			refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
		}
	case Dispose:
		refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		if e.Has.Has(FScope) {
			refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
		}
	case Forget:
		if e.Has.Has(FInst) {
			refs = append(refs, Ref{InstRef, uint64(e.Inst)})
		}
		if e.Has.Has(FContainer) {
			refs = append(refs, Ref{ContainerRef, uint64(e.Container)})
		}
	case Close:
		refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
	case Fail:
		if e.Has.Has(FTo) {
			refs = append(refs, Ref{InstRef, uint64(e.To)})
		}
		if e.Has.Has(FScope) {
			refs = append(refs, Ref{ScopeRef, uint64(e.Scope)})
		}
	}
	return refs
}

func appendField(dst []byte, e *Event, f Field) []byte {
	switch f {
	case FInst:
		return strconv.AppendUint(dst, uint64(e.Inst), 10)
	case FReg:
		return strconv.AppendUint(dst, uint64(e.Reg), 10)
	case FFormat:
		return AppendString(dst, e.Format)
	case FApp:
		return AppendString(dst, e.App)
	case FStream:
		return AppendString(dst, e.Stream)
	case FStart:
		return AppendString(dst, e.Start)
	case FVersion:
		return AppendString(dst, e.Version)
	case FLanguage:
		return AppendString(dst, e.Language)
	case FHost:
		return AppendString(dst, e.Host)
	case FPID:
		return strconv.AppendInt(dst, e.PID, 10)
	case FEnvironment:
		return AppendString(dst, e.Environment)
	case FLabels:
		return appendLabels(dst, e.Labels)
	case FRecorder:
		return AppendString(dst, e.Recorder)
	case FSees:
		return appendStrings(dst, e.Sees)
	case FContainer:
		return strconv.AppendUint(dst, uint64(e.Container), 10)
	case FIn:
		if e.Kind == Container {
			return strconv.AppendUint(dst, uint64(e.InCont), 10)
		}
		if e.Kind == Register {
			return appendPart(dst, e)
		}
		return strconv.AppendUint(dst, uint64(e.InScope), 10)
	case FScope:
		return strconv.AppendUint(dst, uint64(e.Scope), 10)
	case FName:
		return AppendString(dst, e.Name)
	case FAt:
		return AppendString(dst, e.At)
	case FDuplicates:
		return AppendString(dst, e.Duplicates)
	case FCycles:
		return AppendString(dst, e.Cycles)
	case FPer:
		return AppendString(dst, e.Per)
	case FService:
		return AppendString(dst, e.Service)
	case FImpl:
		return AppendString(dst, e.Impl)
	case FLifetime:
		return AppendString(dst, e.Lifetime)
	case FDeclared:
		return AppendString(dst, e.Declared)
	case FKey:
		return AppendString(dst, e.Key)
	case FAlso:
		return appendAlso(dst, e.Also)
	case FNeeds:
		return appendNeeds(dst, e.Needs)
	case FWraps:
		return strconv.AppendUint(dst, uint64(e.Wraps), 10)
	case FAlias:
		return strconv.AppendUint(dst, uint64(e.Alias), 10)
	case FProxy:
		return strconv.AppendUint(dst, uint64(e.Proxy), 10)
	case FTemplate:
		return appendStrings(dst, e.Template)
	case FFormOf:
		return strconv.AppendUint(dst, uint64(e.FormOf), 10)
	case FPooled:
		return strconv.AppendBool(dst, e.Pooled)
	case FPrimary:
		return strconv.AppendBool(dst, e.Primary)
	case FLocal:
		return strconv.AppendBool(dst, e.Local)
	case FInternal:
		return strconv.AppendBool(dst, e.Internal)
	case FDisposable:
		return strconv.AppendBool(dst, e.Disposable)
	case FDisposer:
		return AppendString(dst, e.Disposer)
	case FMechanism:
		return AppendString(dst, e.Mechanism)
	case FSignature:
		return AppendString(dst, e.Signature)
	case FShareable:
		return strconv.AppendBool(dst, e.Shareable)
	case FModule:
		return AppendString(dst, e.Module)
	case FKind:
		return AppendString(dst, e.ScopeKind)
	case FTrace:
		return AppendString(dst, e.Trace)
	case FWeight:
		return strconv.AppendInt(dst, e.Weight, 10)
	case FEnds:
		return AppendString(dst, e.Ends)
	case FCloser:
		return AppendString(dst, e.Closer)
	case FOpener:
		return strconv.AppendUint(dst, uint64(e.Opener), 10)
	case FWithin:
		return strconv.AppendUint(dst, uint64(e.Within), 10)
	case FOwner:
		if e.OwnerNull {
			return append(dst, "null"...)
		}
		return strconv.AppendUint(dst, uint64(e.Owner), 10)
	case FWith:
		return appendWith(dst, e.With)
	case FNS:
		return strconv.AppendInt(dst, e.NS, 10)
	case FBy:
		if e.Kind == Use {
			return strconv.AppendUint(dst, uint64(e.User), 10)
		}
		return AppendString(dst, e.By)
	case FSize:
		return strconv.AppendInt(dst, e.Size, 10)
	case FTo:
		return strconv.AppendUint(dst, uint64(e.To), 10)
	case FEntry:
		return AppendString(dst, e.Entry)
	case FVia:
		return strconv.AppendUint(dst, uint64(e.Via), 10)
	case FHow:
		return AppendString(dst, e.How)
	case FSite:
		return AppendString(dst, e.Site)
	case FAll:
		return strconv.AppendBool(dst, e.All)
	case FThread:
		return AppendString(dst, e.Thread)
	case FCount:
		return strconv.AppendInt(dst, e.Count, 10)
	case FState:
		return AppendString(dst, e.State)
	case FError:
		return AppendString(dst, e.Error)
	case FWhy:
		return AppendString(dst, e.Why)
	case FOptional:
		return strconv.AppendBool(dst, e.Optional)
	case FFor:
		return strconv.AppendUint(dst, uint64(e.For), 10)
	case FPath:
		return appendStrings(dst, e.Path)
	case FLost:
		return strconv.AppendInt(dst, e.Lost, 10)
	case FMessage:
		return AppendString(dst, e.Message)
	}
	return append(dst, "null"...)
}
