package uberdig

import (
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"go.uber.org/dig"

	"keenlantern.example/record/internal/adapt"
)

// param is one thing that a function asks for, or one that it returns.
type param struct {
	of       reflect.Type // as it is asked for
	result   reflect.Type // as it is returned, which may be provided as something else
	also     []reflect.Type
	key      string // a name, or a group
	group    bool
	flatten  bool // a list of which each is a member of the group
	site     string
	optional bool
	all      bool
	variadic bool
	basic    bool // it is not shared
	arg      int
	index    []int // of the field in a dig.In or dig.Out, nil for a plain parameter or result
}

var errorType = reflect.TypeFor[error]()

// said is what the options of a Provide say.
type said struct {
	name, group string
	as          []reflect.Type
	exported    bool
}

// optionsOf reads options, which dig prints as they are written: Name("gauge"), Group("stations,flatten"), Export(true), As(...).
func optionsOf(opts []dig.ProvideOption) (s said) {
	for _, opt := range opts {
		text := fmt.Sprint(opt)
		what, value, _ := strings.Cut(strings.TrimSuffix(text, ")"), "(")
		quoted, _ := strconv.Unquote(value) // what is not quoted is no name
		switch what {
		case "Name":
			s.name = quoted
		case "Group":
			s.group = quoted
		case "Export":
			s.exported = value == "true"
		case "As":
			// It is a list of pointers to interfaces, as the application gave it.
			list := reflect.ValueOf(opt)
			for n := 0; list.Kind() == reflect.Slice && n < list.Len(); n++ {
				if t := reflect.TypeOf(list.Index(n).Interface()); t != nil && t.Kind() == reflect.Pointer {
					s.as = append(s.as, t.Elem())
				}
			}
		}
	}
	return s
}

// params lists what a function asks for.
func params(t reflect.Type) (list []*param) {
	for n := range t.NumIn() {
		in := t.In(n)
		if dig.IsIn(in) {
			fieldsOf(in, nil, dig.IsIn, func(f reflect.StructField, index []int) {
				p := &param{of: f.Type, key: f.Tag.Get("name"), site: f.Name, optional: f.Tag.Get("optional") == "true", arg: n, index: index}
				if group, ok := f.Tag.Lookup("group"); ok && f.Type.Kind() == reflect.Slice {
					p.of, p.key, p.all, p.group = f.Type.Elem(), firstOf(group), true, true
				}
				list = append(list, p)
			})
			continue
		}
		list = append(list, &param{of: in, arg: n, optional: t.IsVariadic() && n == t.NumIn()-1, variadic: t.IsVariadic() && n == t.NumIn()-1})
	}
	for _, p := range list {
		p.basic = adapt.Basic(p.of)
	}
	return list
}

// results lists what a function provides; an error is nothing.
func results(t reflect.Type, s said) (list []*param) {
	for n := range t.NumOut() {
		out := t.Out(n)
		switch {
		case out == errorType:
		case dig.IsOut(out):
			fieldsOf(out, nil, dig.IsOut, func(f reflect.StructField, index []int) {
				p := &param{of: f.Type, key: f.Tag.Get("name"), site: f.Name, arg: n, index: index}
				if group, ok := f.Tag.Lookup("group"); ok {
					p.grouped(group)
				}
				list = append(list, p)
			})
		default:
			p := &param{of: out, key: s.name, arg: n}
			if s.group != "" {
				p.grouped(s.group)
			}
			list = append(list, p)
		}
	}
	for _, p := range list {
		p.result = p.of
		if len(s.as) > 0 {
			p.of, p.also = s.as[0], s.as[1:]
		}
		p.basic = adapt.Basic(p.of)
	}
	return list
}

// grouped makes p a member of a group, or several: "stations,flatten".
func (p *param) grouped(group string) {
	p.key, p.group = firstOf(group), true
	if strings.Contains(group, ",flatten") && p.of.Kind() == reflect.Slice {
		p.of, p.flatten = p.of.Elem(), true
	}
}

func firstOf(group string) string {
	name, _, _ := strings.Cut(group, ",")
	return name
}

// fieldsOf calls f for the fields of a dig.In or dig.Out, and of those within it.
func fieldsOf(t reflect.Type, index []int, nested func(any) bool, f func(reflect.StructField, []int)) {
	for n := range t.NumField() {
		field := t.Field(n)
		at := append(index[:len(index):len(index)], n)
		switch {
		case field.Type == reflect.TypeFor[dig.In]() || field.Type == reflect.TypeFor[dig.Out]() || !field.IsExported():
		case field.Type.Kind() == reflect.Struct && nested(field.Type):
			fieldsOf(field.Type, at, nested, f)
		default:
			f(field, at)
		}
	}
}
