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
	case event.FModule:
		return &p.ev.Module
	case event.FKind:
		return &p.ev.ScopeKind
	case event.FTrace:
		return &p.ev.Trace
	case event.FEnds:
		return &p.ev.Ends
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

// quickNumber sets a field of a quick line that is a whole number, not below 0, and tells whether it may be that.
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

// isQuick tells whether a kind is one of those that make up most of a trace.
func isQuick(k event.Kind) bool {
	switch k {
	case event.Open, event.Make, event.Give, event.Use, event.Dispose, event.Close:
		return true
	}
	return false
}

// either names the two fields of which lines of a kind have one.
var either = map[event.Kind][2]event.Field{
	event.Forget: {event.FInst, event.FContainer},
}
