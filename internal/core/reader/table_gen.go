// Code generated from spec/events.yaml. DO NOT EDIT.

package reader

import "keenlantern.example/record/event"

// value reads the value of one known field that is not null.
func (p *Parser) value(f event.Field) {
	e := p.ev
	switch f {
	case event.FT:
		e.T = p.integer(f, -event.MaxNumber)
	case event.FInst:
		e.Inst = event.InstID(p.integer(f, 1))
	case event.FReg:
		e.Reg = event.RegID(p.integer(f, 1))
	case event.FPID:
		e.PID = p.integer(f, 0)
	case event.FLabels:
		e.Labels = p.labels()
	case event.FSees:
		e.Sees = p.texts(f, e.Sees[:0])
	case event.FContainer:
		e.Container = event.ContainerID(p.integer(f, 1))
	case event.FIn:
		if e.Kind == event.Container {
			e.InCont = event.ContainerID(p.integer(f, 1))
			return
		}
		if e.Kind == event.Register {
			p.part()
			return
		}
		e.InScope = event.ScopeID(p.integer(f, 0))
	case event.FScope:
		e.Scope = event.ScopeID(p.integer(f, 0))
	case event.FAlso:
		e.Also = p.also(e.Also[:0])
	case event.FNeeds:
		e.Needs = p.needs(e.Needs[:0])
	case event.FWraps:
		e.Wraps = event.RegID(p.integer(f, 1))
	case event.FAlias:
		e.Alias = event.RegID(p.integer(f, 1))
	case event.FProxy:
		e.Proxy = event.RegID(p.integer(f, 1))
	case event.FTemplate:
		e.Template = p.texts(f, e.Template[:0])
	case event.FFormOf:
		e.FormOf = event.RegID(p.integer(f, 1))
	case event.FPooled:
		e.Pooled = p.boolean(f)
	case event.FPrimary:
		e.Primary = p.boolean(f)
	case event.FLocal:
		e.Local = p.boolean(f)
	case event.FInternal:
		e.Internal = p.boolean(f)
	case event.FDisposable:
		e.Disposable = p.boolean(f)
	case event.FShareable:
		e.Shareable = p.boolean(f)
	case event.FWeight:
		e.Weight = p.integer(f, 1)
	case event.FOpener:
		e.Opener = event.InstID(p.integer(f, 1))
	case event.FWithin:
		e.Within = event.ScopeID(p.integer(f, 0))
	case event.FOwner:
		e.Owner = event.ScopeID(p.integer(f, 0))
	case event.FWith:
		e.With = p.with(e.With[:0])
	case event.FNS:
		e.NS = p.integer(f, 0)
	case event.FBy:
		if e.Kind == event.Use {
			e.User = event.InstID(p.integer(f, 1))
			return
		}
		e.By = p.name(f)
	case event.FSize:
		e.Size = p.integer(f, 0)
	case event.FTo:
		e.To = event.InstID(p.integer(f, 1))
	case event.FVia:
		e.Via = event.RegID(p.integer(f, 1))
	case event.FAll:
		e.All = p.boolean(f)
	case event.FThread:
		e.Thread = p.flow(f)
	case event.FCount:
		e.Count = p.integer(f, 1)
	case event.FOptional:
		e.Optional = p.boolean(f)
	case event.FFor:
		e.For = event.RegID(p.integer(f, 1))
	case event.FPath:
		e.Path = p.texts(f, e.Path[:0])
	case event.FLost:
		e.Lost = p.integer(f, 0)
	default:
		*p.textField(f) = p.name(f)
	}
}

// textField returns where a field goes that is a text on all lines that have it.
func (p *Parser) textField(f event.Field) *string {
	switch f {
	case event.FFormat:
		return &p.ev.Format
	case event.FApp:
		return &p.ev.App
	case event.FStream:
		return &p.ev.Stream
	case event.FStart:
		return &p.ev.Start
	case event.FVersion:
		return &p.ev.Version
	case event.FLanguage:
		return &p.ev.Language
	case event.FHost:
		return &p.ev.Host
	case event.FEnvironment:
		return &p.ev.Environment
	case event.FRecorder:
		return &p.ev.Recorder
	case event.FName:
		return &p.ev.Name
	case event.FAt:
		return &p.ev.At
	case event.FDuplicates:
		return &p.ev.Duplicates
	case event.FCycles:
		return &p.ev.Cycles
	case event.FPer:
		return &p.ev.Per
	case event.FService:
		return &p.ev.Service
	case event.FImpl:
		return &p.ev.Impl
	case event.FLifetime:
		return &p.ev.Lifetime
	case event.FDeclared:
		return &p.ev.Declared
	case event.FKey:
		return &p.ev.Key
	case event.FDisposer:
		return &p.ev.Disposer
	case event.FMechanism:
		return &p.ev.Mechanism
	case event.FSignature:
		return &p.ev.Signature
	case event.FModule:
		return &p.ev.Module
	case event.FKind:
		return &p.ev.ScopeKind
	case event.FTrace:
		return &p.ev.Trace
	case event.FEnds:
		return &p.ev.Ends
	case event.FCloser:
		return &p.ev.Closer
	case event.FEntry:
		return &p.ev.Entry
	case event.FHow:
		return &p.ev.How
	case event.FSite:
		return &p.ev.Site
	case event.FState:
		return &p.ev.State
	case event.FError:
		return &p.ev.Error
	case event.FWhy:
		return &p.ev.Why
	case event.FMessage:
		return &p.ev.Message
	}
	return &p.ev.Message // of value, which knows the others
}

// quickNumber sets a field of a quick line that is a whole number, not below 0, and reports whether it may be that.
func (p *Parser) quickNumber(f event.Field, n uint64) bool {
	e := p.ev
	switch f {
	case event.FT:
		e.T = int64(n)
		return true
	case event.FInst:
		e.Inst = event.InstID(n)
		return n > 0
	case event.FReg:
		e.Reg = event.RegID(n)
		return n > 0
	case event.FContainer:
		e.Container = event.ContainerID(n)
		return n > 0
	case event.FIn:
		e.InScope = event.ScopeID(n)
		return true
	case event.FScope:
		e.Scope = event.ScopeID(n)
		return true
	case event.FWeight:
		e.Weight = int64(n)
		return n > 0
	case event.FOpener:
		e.Opener = event.InstID(n)
		return n > 0
	case event.FWithin:
		e.Within = event.ScopeID(n)
		return true
	case event.FOwner:
		e.Owner = event.ScopeID(n)
		return true
	case event.FNS:
		e.NS = int64(n)
		return true
	case event.FBy:
		if e.Kind == event.Use {
			e.User = event.InstID(n)
			return n > 0
		}
		return false
	case event.FSize:
		e.Size = int64(n)
		return true
	case event.FTo:
		e.To = event.InstID(n)
		return n > 0
	case event.FVia:
		e.Via = event.RegID(n)
		return n > 0
	case event.FCount:
		e.Count = int64(n)
		return n > 0
	}
	return false
}

// quickText returns where a field of a quick line goes that is a text, nil for any other.
func (p *Parser) quickText(f event.Field) *string {
	switch f {
	case event.FName:
		return &p.ev.Name
	case event.FAt:
		return &p.ev.At
	case event.FService:
		return &p.ev.Service
	case event.FImpl:
		return &p.ev.Impl
	case event.FKey:
		return &p.ev.Key
	case event.FDisposer:
		return &p.ev.Disposer
	case event.FModule:
		return &p.ev.Module
	case event.FKind:
		return &p.ev.ScopeKind
	case event.FTrace:
		return &p.ev.Trace
	case event.FEnds:
		return &p.ev.Ends
	case event.FCloser:
		return &p.ev.Closer
	case event.FBy:
		if p.ev.Kind == event.Use {
			return nil
		}
		return &p.ev.By
	case event.FEntry:
		return &p.ev.Entry
	case event.FHow:
		return &p.ev.How
	case event.FSite:
		return &p.ev.Site
	case event.FThread:
		return &p.ev.Thread
	case event.FState:
		return &p.ev.State
	case event.FError:
		return &p.ev.Error
	}
	return nil
}

// isQuick reports whether a kind is one of those that make up most of a trace.
func isQuick(k event.Kind) bool {
	switch k {
	case event.Open, event.Make, event.Give, event.Use, event.Dispose, event.Close:
		return true
	}
	return false
}

// pack notes the fields of a quick event. In unpack, each is taken out again in the same order.
func (p *Parcel) pack(e *event.Event) {
	switch e.Kind {
	case event.Open:
		p.number(uint64(e.Scope))
		if e.Has.Has(event.FIn) {
			p.number(uint64(e.InScope))
		}
		if e.Has.Has(event.FKind) {
			p.text(e.ScopeKind)
		}
		if e.Has.Has(event.FName) {
			p.text(e.Name)
		}
		if e.Has.Has(event.FTrace) {
			p.text(e.Trace)
		}
		if e.Has.Has(event.FWeight) {
			p.number(uint64(e.Weight))
		}
		if e.Has.Has(event.FEnds) {
			p.text(e.Ends)
		}
		if e.Has.Has(event.FCloser) {
			p.text(e.Closer)
		}
		if e.Has.Has(event.FOpener) {
			p.number(uint64(e.Opener))
		}
		if e.Has.Has(event.FWithin) {
			p.number(uint64(e.Within))
		}
		if e.Has.Has(event.FAt) {
			p.text(e.At)
		}
	case event.Make:
		p.number(uint64(e.Inst))
		p.number(uint64(e.Scope))
		if e.Has.Has(event.FReg) {
			p.number(uint64(e.Reg))
		}
		if e.Has.Has(event.FOwner) {
			p.number(uint64(e.Owner))
			p.flag(e.OwnerNull)
		}
		if e.Has.Has(event.FWith) {
			p.with(e.With)
		}
		if e.Has.Has(event.FNS) {
			p.number(uint64(e.NS))
		}
		if e.Has.Has(event.FBy) {
			p.text(e.By)
		}
		if e.Has.Has(event.FImpl) {
			p.text(e.Impl)
		}
		if e.Has.Has(event.FDisposable) {
			p.flag(e.Disposable)
		}
		if e.Has.Has(event.FDisposer) {
			p.text(e.Disposer)
		}
		if e.Has.Has(event.FSize) {
			p.number(uint64(e.Size))
		}
		if e.Has.Has(event.FModule) {
			p.text(e.Module)
		}
		if e.Has.Has(event.FContainer) {
			p.number(uint64(e.Container))
		}
		if e.Has.Has(event.FAt) {
			p.text(e.At)
		}
	case event.Give:
		p.number(uint64(e.Inst))
		if e.Has.Has(event.FScope) {
			p.number(uint64(e.Scope))
		}
		if e.Has.Has(event.FTo) {
			p.number(uint64(e.To))
		}
		if e.Has.Has(event.FEntry) {
			p.text(e.Entry)
		}
		if e.Has.Has(event.FService) {
			p.text(e.Service)
		}
		if e.Has.Has(event.FKey) {
			p.text(e.Key)
		}
		if e.Has.Has(event.FVia) {
			p.number(uint64(e.Via))
		}
		if e.Has.Has(event.FHow) {
			p.text(e.How)
		}
		if e.Has.Has(event.FSite) {
			p.text(e.Site)
		}
		if e.Has.Has(event.FAll) {
			p.flag(e.All)
		}
		if e.Has.Has(event.FModule) {
			p.text(e.Module)
		}
	case event.Use:
		p.number(uint64(e.Inst))
		if e.Has.Has(event.FScope) {
			p.number(uint64(e.Scope))
		}
		if e.Has.Has(event.FBy) {
			p.number(uint64(e.User))
		}
		if e.Has.Has(event.FNS) {
			p.number(uint64(e.NS))
		}
		if e.Has.Has(event.FThread) {
			p.text(e.Thread)
		}
		if e.Has.Has(event.FCount) {
			p.number(uint64(e.Count))
		}
		if e.Has.Has(event.FSite) {
			p.text(e.Site)
		}
	case event.Dispose:
		p.number(uint64(e.Inst))
		if e.Has.Has(event.FScope) {
			p.number(uint64(e.Scope))
		}
		if e.Has.Has(event.FNS) {
			p.number(uint64(e.NS))
		}
		if e.Has.Has(event.FBy) {
			p.text(e.By)
		}
		if e.Has.Has(event.FState) {
			p.text(e.State)
		}
		if e.Has.Has(event.FError) {
			p.text(e.Error)
		}
	case event.Close:
		p.number(uint64(e.Scope))
		if e.Has.Has(event.FNS) {
			p.number(uint64(e.NS))
		}
	}
}

func (p *Parcel) unpack(e *event.Event) {
	n, at := p.numbers, p.numberAt
	switch e.Kind {
	case event.Open:
		e.Scope = event.ScopeID(n[at])
		at++
		if e.Has.Has(event.FIn) {
			e.InScope = event.ScopeID(n[at])
			at++
		}
		if e.Has.Has(event.FKind) {
			e.ScopeKind = p.nextText()
		}
		if e.Has.Has(event.FName) {
			e.Name = p.nextText()
		}
		if e.Has.Has(event.FTrace) {
			e.Trace = p.nextText()
		}
		if e.Has.Has(event.FWeight) {
			e.Weight = int64(n[at])
			at++
		}
		if e.Has.Has(event.FEnds) {
			e.Ends = p.nextText()
		}
		if e.Has.Has(event.FCloser) {
			e.Closer = p.nextText()
		}
		if e.Has.Has(event.FOpener) {
			e.Opener = event.InstID(n[at])
			at++
		}
		if e.Has.Has(event.FWithin) {
			e.Within = event.ScopeID(n[at])
			at++
		}
		if e.Has.Has(event.FAt) {
			e.At = p.nextText()
		}
	case event.Make:
		e.Inst = event.InstID(n[at])
		at++
		e.Scope = event.ScopeID(n[at])
		at++
		if e.Has.Has(event.FReg) {
			e.Reg = event.RegID(n[at])
			at++
		}
		if e.Has.Has(event.FOwner) {
			e.Owner = event.ScopeID(n[at])
			at++
			e.OwnerNull = n[at] == 1
			at++
		}
		if e.Has.Has(event.FWith) {
			e.With, at = p.nextWith(e.With[:0], at)
		}
		if e.Has.Has(event.FNS) {
			e.NS = int64(n[at])
			at++
		}
		if e.Has.Has(event.FBy) {
			e.By = p.nextText()
		}
		if e.Has.Has(event.FImpl) {
			e.Impl = p.nextText()
		}
		if e.Has.Has(event.FDisposable) {
			e.Disposable = n[at] == 1
			at++
		}
		if e.Has.Has(event.FDisposer) {
			e.Disposer = p.nextText()
		}
		if e.Has.Has(event.FSize) {
			e.Size = int64(n[at])
			at++
		}
		if e.Has.Has(event.FModule) {
			e.Module = p.nextText()
		}
		if e.Has.Has(event.FContainer) {
			e.Container = event.ContainerID(n[at])
			at++
		}
		if e.Has.Has(event.FAt) {
			e.At = p.nextText()
		}
	case event.Give:
		e.Inst = event.InstID(n[at])
		at++
		if e.Has.Has(event.FScope) {
			e.Scope = event.ScopeID(n[at])
			at++
		}
		if e.Has.Has(event.FTo) {
			e.To = event.InstID(n[at])
			at++
		}
		if e.Has.Has(event.FEntry) {
			e.Entry = p.nextText()
		}
		if e.Has.Has(event.FService) {
			e.Service = p.nextText()
		}
		if e.Has.Has(event.FKey) {
			e.Key = p.nextText()
		}
		if e.Has.Has(event.FVia) {
			e.Via = event.RegID(n[at])
			at++
		}
		if e.Has.Has(event.FHow) {
			e.How = p.nextText()
		}
		if e.Has.Has(event.FSite) {
			e.Site = p.nextText()
		}
		if e.Has.Has(event.FAll) {
			e.All = n[at] == 1
			at++
		}
		if e.Has.Has(event.FModule) {
			e.Module = p.nextText()
		}
	case event.Use:
		e.Inst = event.InstID(n[at])
		at++
		if e.Has.Has(event.FScope) {
			e.Scope = event.ScopeID(n[at])
			at++
		}
		if e.Has.Has(event.FBy) {
			e.User = event.InstID(n[at])
			at++
		}
		if e.Has.Has(event.FNS) {
			e.NS = int64(n[at])
			at++
		}
		if e.Has.Has(event.FThread) {
			e.Thread = p.nextText()
		}
		if e.Has.Has(event.FCount) {
			e.Count = int64(n[at])
			at++
		}
		if e.Has.Has(event.FSite) {
			e.Site = p.nextText()
		}
	case event.Dispose:
		e.Inst = event.InstID(n[at])
		at++
		if e.Has.Has(event.FScope) {
			e.Scope = event.ScopeID(n[at])
			at++
		}
		if e.Has.Has(event.FNS) {
			e.NS = int64(n[at])
			at++
		}
		if e.Has.Has(event.FBy) {
			e.By = p.nextText()
		}
		if e.Has.Has(event.FState) {
			e.State = p.nextText()
		}
		if e.Has.Has(event.FError) {
			e.Error = p.nextText()
		}
	case event.Close:
		e.Scope = event.ScopeID(n[at])
		at++
		if e.Has.Has(event.FNS) {
			e.NS = int64(n[at])
			at++
		}
	}
	p.numberAt = at
}

// either names the two fields of which lines of a kind have one.
var either = map[event.Kind][2]event.Field{
	event.Forget: {event.FInst, event.FContainer},
}
