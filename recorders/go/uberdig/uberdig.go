package uberdig

import (
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"runtime"
	"strings"
	"time"

	"go.uber.org/dig"

	"keenlantern.example/record"
	"keenlantern.example/record/event"
)

// digger is what a dig.Container and a dig.Scope have in common.
type digger interface {
	Provide(constructor any, opts ...dig.ProvideOption) error
	Decorate(decorator any, opts ...dig.DecorateOption) error
	Invoke(function any, opts ...dig.InvokeOption) error
	Scope(name string, opts ...dig.ScopeOption) *dig.Scope
}

// Container is a dig container that is recorded. Its own methods are those of its root scope.
type Container struct{ *Scope }

// shared is what the scopes of one container have in common.
type shared struct {
	rec       *record.Recorder
	container record.ContainerID
	regs      map[regKey]record.RegID
	current   *Scope // the one whose Invoke is running
}

// regKey tells registrations apart: those that each scope makes again are one.
type regKey struct{ service, key, kind, at string }

// Scope is a dig scope that is recorded.
type Scope struct {
	shared  *shared
	dig     digger
	outer   *Scope
	id      record.ScopeID
	kind    string
	answers map[asked]record.RegID
}

type asked struct {
	service, key string
}

// New returns an empty container whose life is told to rec.
func New(rec *record.Recorder, opts ...dig.Option) *Container {
	s := &shared{rec: rec, container: rec.Container("dig", 0, 0), regs: map[regKey]record.RegID{}}
	return &Container{&Scope{shared: s, dig: dig.New(opts...), kind: "root", answers: map[asked]record.RegID{}}}
}

// Open opens a child scope for a stretch of work of a kind, such as "request".
func (s *Scope) Open(kind, name string) *Scope {
	in := s.id
	if s.outer == nil {
		in = 0
	}
	return &Scope{
		shared: s.shared, dig: s.dig.Scope(kind + " " + name), outer: s, kind: kind, answers: map[asked]record.RegID{},
		id: s.shared.rec.Open(record.Scope{In: in, Kind: kind, Name: name}),
	}
}

// Close says that the scope has ended.
func (s *Scope) Close() {
	if s.outer != nil {
		s.shared.rec.CloseScope(s.id)
	}
}

// ID returns the scope as the recorder knows it.
func (s *Scope) ID() record.ScopeID { return s.id }

// Disposed says that code has let v go, a pointer that the container built.
func (s *Scope) Disposed(v any, took time.Duration, failure error) {
	s.shared.rec.Dispose(s.shared.rec.Of(v), s.id, "code", record.Done, took, failure)
}

// param is one thing that a function asks for, result one that it returns.
type param struct {
	service, key, site string
	optional, all      bool
	index              []int // of the field in a dig.In, nil for a plain parameter
}

var errorType = reflect.TypeFor[error]()

// params lists what a function asks for, by its arguments.
func params(t reflect.Type) (list [][]param) {
	for n := range t.NumIn() {
		in := t.In(n)
		if !dig.IsIn(in) {
			list = append(list, []param{{service: typeName(in)}})
			continue
		}
		var fields []param
		for _, f := range reflect.VisibleFields(in) {
			if f.Anonymous || !f.IsExported() || len(f.Index) != 1 {
				continue
			}
			p := param{service: typeName(f.Type), key: f.Tag.Get("name"), site: f.Name, optional: f.Tag.Get("optional") == "true", index: f.Index}
			if group, ok := f.Tag.Lookup("group"); ok && f.Type.Kind() == reflect.Slice {
				p.service, p.key, p.all = typeName(f.Type.Elem()), strings.Split(group, ",")[0], true
			}
			fields = append(fields, p)
		}
		list = append(list, fields)
	}
	return list
}

// results lists what a function returns, by its results; an error is none.
func results(t reflect.Type, key string) (list [][]param) {
	for n := range t.NumOut() {
		out := t.Out(n)
		switch {
		case out == errorType:
			list = append(list, nil)
		case dig.IsOut(out):
			var fields []param
			for _, f := range reflect.VisibleFields(out) {
				if f.Anonymous || !f.IsExported() || len(f.Index) != 1 {
					continue
				}
				name := f.Tag.Get("name")
				if group, ok := f.Tag.Lookup("group"); ok {
					name = strings.Split(group, ",")[0]
				}
				fields = append(fields, param{service: typeName(f.Type), key: name, index: f.Index})
			}
			list = append(list, fields)
		default:
			list = append(list, []param{{service: typeName(out), key: key}})
		}
	}
	return list
}

// Option says more of what is provided.
type Option func(*options)

type options struct {
	key string
	dig []dig.ProvideOption
}

// Name provides one of several of the same type.
func Name(name string) Option {
	return func(o *options) { o.key = name; o.dig = append(o.dig, dig.Name(name)) }
}

// Group provides one of a group.
func Group(name string) Option {
	return func(o *options) { o.key = name; o.dig = append(o.dig, dig.Group(name)) }
}

// Provide registers a constructor, as dig's Provide does: once for the container on its root, for each scope on others.
func (s *Scope) Provide(constructor any, opts ...Option) error {
	var o options
	for _, opt := range opts {
		opt(&o)
	}
	f := reflect.ValueOf(constructor)
	if f.Kind() != reflect.Func {
		return s.dig.Provide(constructor, o.dig...) // which says what is wrong
	}
	at, asks, gives := caller(), params(f.Type()), results(f.Type(), o.key)
	regs := s.register(at, asks, gives, nil)
	return s.dig.Provide(s.recorded(f, regs, asks, gives), append(o.dig, dig.LocationForPC(f.Pointer()))...)
}

// Decorate puts a decorator around what it takes and returns, as dig's Decorate does.
func (s *Scope) Decorate(decorator any) error {
	f := reflect.ValueOf(decorator)
	if f.Kind() != reflect.Func {
		return s.dig.Decorate(decorator)
	}
	at, asks, gives := caller(), params(f.Type()), results(f.Type(), "")
	regs := s.register(at, asks, gives, s.answering)
	return s.dig.Decorate(s.recorded(f, regs, asks, gives))
}

// answering returns the registration that answers in s for a type and key.
func (s *Scope) answering(p param) record.RegID {
	for at := s; at != nil; at = at.outer {
		if reg := at.answers[asked{p.service, p.key}]; reg != 0 {
			return reg
		}
	}
	return 0
}

// register makes the registrations for what a function returns.
func (s *Scope) register(at string, asks, gives [][]param, wraps func(param) record.RegID) [][]record.RegID {
	var needs []event.Need
	for _, list := range asks {
		for _, p := range list {
			needs = append(needs, event.Need{Site: p.site, Service: p.service, Key: p.key, HasKey: p.key != "", All: p.all, Optional: p.optional})
		}
	}
	lifetime := "scoped"
	if s.outer == nil {
		lifetime = "singleton"
	}
	regs := make([][]record.RegID, len(gives))
	for n, list := range gives {
		for _, p := range list {
			g := record.Registration{
				Service: p.service, Key: p.key, Lifetime: lifetime, Container: s.shared.container, Needs: needs, At: at,
				Local: s.outer != nil, Disposer: "code",
			}
			if wraps != nil {
				g.Wraps = wraps(p)
			}
			k := regKey{p.service, p.key, s.kind, at}
			reg := s.shared.regs[k]
			if reg == 0 {
				reg = s.shared.rec.Register(g)
				s.shared.regs[k] = reg
			}
			s.answers[asked{p.service, p.key}] = reg
			regs[n] = append(regs[n], reg)
		}
	}
	return regs
}

// recorded returns a function of the same type that tells of what f builds.
func (s *Scope) recorded(f reflect.Value, regs [][]record.RegID, asks, gives [][]param) any {
	return reflect.MakeFunc(f.Type(), func(args []reflect.Value) []reflect.Value {
		began := time.Now()
		call := f.Call
		if f.Type().IsVariadic() {
			call = f.CallSlice
		}
		out := call(args)
		took := time.Since(began)
		for _, v := range out {
			if v.Type() == errorType && !v.IsNil() {
				return out
			}
		}
		rec := s.shared.rec
		with := s.with(args, asks)
		for n, list := range gives {
			for k, p := range list {
				v := out[n]
				if p.index != nil {
					v = v.FieldByIndex(p.index)
				}
				value := v.Interface()
				inst := rec.Make(record.Making{
					Reg: regs[n][k], Scope: s.asking(), With: with, Took: took, By: "factory", Impl: typeName(reflect.TypeOf(value)),
				})
				rec.Know(value, inst)
			}
		}
		return out
	}).Interface()
}

// asking returns the scope in which work asks at the moment.
func (s *Scope) asking() record.ScopeID {
	if s.shared.current != nil {
		return s.shared.current.id
	}
	return s.id
}

// with lists what a call was given.
func (s *Scope) with(args []reflect.Value, asks [][]param) []event.With {
	var with []event.With
	s.given(args, asks, func(v any, p param) {
		with = append(with, event.With{Inst: s.shared.rec.Of(v), Site: p.site, Service: p.service, Key: p.key, HasKey: p.key != ""})
	})
	return with
}

// given calls f for each thing that a call was given.
func (s *Scope) given(args []reflect.Value, asks [][]param, f func(v any, p param)) {
	for n, list := range asks {
		for _, p := range list {
			v := args[n]
			if p.index != nil {
				v = v.FieldByIndex(p.index)
			}
			if !p.all {
				f(v.Interface(), p)
				continue
			}
			for k := range v.Len() {
				f(v.Index(k).Interface(), p)
			}
		}
	}
}

// Invoke calls function with what it asks for, as dig's Invoke does. Entry names who asks: a handler, a job.
func (s *Scope) Invoke(entry string, function any) error {
	f := reflect.ValueOf(function)
	if f.Kind() != reflect.Func {
		return s.dig.Invoke(function)
	}
	before := s.shared.current
	s.shared.current = s
	defer func() { s.shared.current = before }()
	asks := params(f.Type())
	reached := false
	counted := reflect.MakeFunc(f.Type(), func(args []reflect.Value) []reflect.Value {
		reached = true
		s.given(args, asks, func(v any, p param) {
			s.shared.rec.Give(record.Giving{
				Inst: s.shared.rec.Of(v), Scope: s.id, Entry: entry, Service: p.service, Key: p.key, How: "method", Site: p.site,
			})
		})
		if f.Type().IsVariadic() {
			return f.CallSlice(args)
		}
		return f.Call(args)
	})
	err := s.dig.Invoke(counted.Interface(), dig.FillInvokeInfo(&dig.InvokeInfo{}))
	if err != nil && !reached {
		s.failed(asks, err)
	}
	return err
}

// failed tells that what was asked for could not be built. dig's own words name types, an application's error may hold
// anything, so neither is recorded.
func (s *Scope) failed(asks [][]param, err error) {
	why := "error"
	switch {
	case dig.IsCycleDetected(err):
		why = "cycle"
	case errors.Is(dig.RootCause(err), err) || strings.Contains(err.Error(), "missing type"):
		why = "missing"
	}
	for _, list := range asks {
		for _, p := range list {
			if why != "missing" || s.answering(p) == 0 {
				s.shared.rec.Fail(record.Failure{Service: p.service, Key: p.key, Why: why, Scope: s.id, Optional: p.optional})
				return
			}
		}
	}
}

func typeName(t reflect.Type) string {
	if t == nil {
		return ""
	}
	return strings.TrimLeft(t.String(), "*")
}

// caller returns where the registration stands in the source.
func caller() string {
	_, file, line, ok := runtime.Caller(2)
	if !ok {
		return ""
	}
	return fmt.Sprintf("%s:%d", filepath.Base(file), line)
}
