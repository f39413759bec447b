package main

import (
	"fmt"
	"slices"
	"strings"
)

const generated = "// Code generated from spec/events.yaml. DO NOT EDIT.\n\n"

// goField is a field of the Go struct.
type goField struct{ name, of, doc string }

// goFields lists the fields of the Go struct, of one type after the other.
func (t *formatTable) goFields() (list []goField) {
	add := func(f goField) {
		for n := range list {
			if list[n].name == f.name {
				if f.doc != "" && list[n].doc == "" {
					list[n].doc = f.doc
				}
				return
			}
		}
		list = append(list, f)
	}
	one := func(f *field) {
		if f.Name == "ev" || f.Name == "t" {
			return
		}
		if f.Type == "part" {
			add(goField{"InModule", "string", "register: the module in which it applies as a layer (the field in)"})
			add(goField{"InKind", "string", "register: the kind of scope in which it applies as a layer (the field in)"})
			return
		}
		add(goField{f.Go, types[f.Type].goType, f.Doc})
		if f.Null {
			add(goField{f.Go + "Null", "bool", f.Name + " is null, which means something"})
		}
	}
	for _, f := range t.Fields {
		one(f)
	}
	for _, k := range t.Kinds {
		for _, f := range k.all() {
			if f.own {
				one(f)
			}
		}
	}
	order := []string{"ScopeID", "InstID", "RegID", "ContainerID", "int64", "bool", "string", "[]string", "[]Also", "[]Need", "[]With", "map[string]string"}
	slices.SortStableFunc(list, func(a, b goField) int { return slices.Index(order, a.of) - slices.Index(order, b.of) })
	return list
}

// ofKind lists the fields of the Go struct that a kind's lines fill.
func (t *formatTable) ofKind(k *kind) (names []goField) {
	all := t.goFields()
	named := func(name string) {
		for _, f := range all {
			if f.name == name {
				names = append(names, f)
			}
		}
	}
	for _, f := range k.all() {
		if f.Type == "part" {
			named("InCont")
			named("InModule")
			named("InKind")
			continue
		}
		named(f.Go)
		if f.Null {
			named(f.Go + "Null")
		}
	}
	return names
}

// empty returns the value to which a field is reset; a list keeps its room.
func (f *goField) empty() string {
	switch {
	case strings.HasPrefix(f.of, "[]"):
		return "e." + f.name + "[:0]"
	case f.of == "string":
		return `""`
	case f.of == "bool":
		return "false"
	case strings.HasPrefix(f.of, "map"):
		return "nil"
	}
	return "0"
}

func (t *formatTable) eventGo() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	b.WriteString(generated)
	say("package event\n\nimport (\n\"strconv\"\n\"unsafe\"\n)\n")
	say("// Format is the value of a hello's format field that this package writes and understands.\nconst Format = %q\n", t.Format)
	say("// MaxNumber bounds every number in a trace: integers stay exact in readers that hold numbers as float64.\nconst MaxNumber = %d\n", t.MaxNumber)
	say("// MaxText is the longest text in bytes that a trace may have in a field.\nconst MaxText = %d\n", t.MaxText)

	say("// The kinds, in the order of the format's table. Unknown is a kind that this version does not know.\nconst (\nUnknown Kind = iota")
	for _, k := range t.Kinds {
		say("%s", goName(k.Name))
	}
	say("kinds\n)\n")
	say("var kindNames = [kinds]string{\n\"unknown\",")
	for _, k := range t.Kinds {
		say("%q,", k.Name)
	}
	say("}\n")
	say("// KindOf returns the kind that ev names, Unknown if none. It does not keep ev.\nfunc KindOf(ev []byte) Kind {\nswitch string(ev) {")
	for _, k := range t.Kinds {
		say("case %q:\nreturn %s", k.Name, goName(k.Name))
	}
	say("}\nreturn Unknown\n}\n")

	say("// The fields of all kinds, named as a line names them.\nconst (")
	for n, f := range t.Fields {
		if n == 0 {
			say("%s Field = iota", fName(f))
			continue
		}
		say("%s", fName(f))
	}
	say("fields\n)\n")
	say("var fieldNames = [fields]string{")
	for _, f := range t.Fields {
		say("%q,", f.Name)
	}
	say("}\n")

	say("var shapes = [kinds]shape{")
	for _, k := range t.Kinds {
		set := func(list []*field) string {
			var names []string
			for _, f := range list {
				names = append(names, fName(f))
			}
			return "Of(" + strings.Join(names, ", ") + ")"
		}
		say("%s: {required: %s, optional: %s},", goName(k.Name), set(k.Required), set(k.Optional))
	}
	say("}\n")

	say("// Words returns the words that have a meaning in a field of a kind, nil where any text has.\nfunc Words(k Kind, f Field) []string {\nswitch f {")
	for _, f := range t.Fields {
		var own []string
		general := strings.Join(f.Words, " ")
		for _, k := range t.Kinds {
			if g := k.has(f.Name); g != nil && len(g.Words) > 0 && (strings.Join(g.Words, " ") != general || general == "") {
				own = append(own, fmt.Sprintf("if k == %s {\nreturn %s\n}", goName(k.Name), texts(g.Words)))
			}
		}
		if len(f.Words) == 0 && len(own) == 0 {
			continue
		}
		say("case %s:", fName(f))
		for _, o := range own {
			say("%s", o)
		}
		if len(f.Words) > 0 {
			say("return %s", texts(f.Words))
		}
	}
	say("}\nreturn nil\n}\n")

	say("// AllFields is how many fields there are: they are numbered from 0.\nconst AllFields = fields\n")
	say("// Text returns the value of a field that is one text on e's line, false for any other.\nfunc (e *Event) Text(f Field) (string, bool) {\nswitch f {")
	for _, f := range t.Fields {
		if f.Type != "text" && f.Type != "flow" {
			continue
		}
		say("case %s:", fName(f))
		for _, k := range t.Kinds {
			if own := k.has(f.Name); own != nil && own.own && own.Type != "text" {
				say("if e.Kind == %s {\nreturn \"\", false\n}", goName(k.Name))
			}
		}
		say("return e.%s, true", f.Go)
	}
	say("}\nreturn \"\", false\n}\n")

	say("// Event is one line of a trace. Which fields mean something depends on Kind and Has; the others are zero.\n//\n// One Event may be filled again and again: strings stay valid, slices are overwritten. Clone keeps one.\ntype Event struct {")
	say("Kind Kind\nLine int64 // the line's number in its file or stream, from 1; set by readers\nT int64 // ns since the stream's start\nHas Fields // which fields the line carried\n")
	for _, f := range t.goFields() {
		if f.doc != "" {
			say("%s %s // %s", f.name, f.of, f.doc)
		} else {
			say("%s %s", f.name, f.of)
		}
	}
	say("}\n")

	say("// Reset empties e for the next line and keeps the room its slices have. The kinds that make up nearly all of a trace\n// have few fields, and only those are cleared: the struct is large, and clearing it costs more than reading a line.\nfunc (e *Event) Reset() {\nswitch e.Kind {")
	for _, k := range t.Kinds {
		if !k.Quick {
			continue
		}
		say("case %s:", goName(k.Name))
		for _, f := range t.ofKind(k) {
			if f.name != "Count" && f.name != "Weight" {
				say("e.%s = %s", f.name, f.empty())
			}
		}
	}
	say("default:")
	var lists, keep []string
	for _, f := range t.goFields() {
		if strings.HasPrefix(f.of, "[]") {
			lists = append(lists, f.name)
			keep = append(keep, f.name+": "+strings.ToLower(f.name))
		}
	}
	for _, name := range lists {
		say("%s := e.%s[:0]", strings.ToLower(name), name)
	}
	say("*e = Event{%s}\nreturn\n}", strings.Join(keep, ", "))
	say("e.Kind, e.Line, e.T, e.Has, e.Count, e.Weight = Unknown, 0, 0, Fields{}, 0, 0\n}\n")

	say("// Held returns about how many bytes of memory e takes, its texts and lists included.\nfunc (e *Event) Held() int {\nn := int(unsafe.Sizeof(*e))")
	for _, f := range t.goFields() {
		switch f.of {
		case "string":
			say("n += len(e.%s)", f.name)
		case "[]string":
			say("for _, s := range e.%s {\nn += int(unsafe.Sizeof(s)) + len(s)\n}", f.name)
		case "map[string]string":
			say("for k, v := range e.%s {\nn += 2*int(unsafe.Sizeof(k)) + len(k) + len(v)\n}", f.name)
		case "[]Also", "[]Need", "[]With":
			say("for k := range e.%s {\nn += e.%s[k].held()\n}", f.name, f.name)
		}
	}
	say("return n\n}\n")
	say("// Clone returns a copy that shares nothing that can change with e.\nfunc (e *Event) Clone() *Event {\nc := *e")
	for _, f := range t.goFields() {
		if strings.HasPrefix(f.of, "[]") {
			say("c.%s = append(%s(nil), e.%s...)", f.name, f.of, f.name)
		}
	}
	say("return &c\n}\n")

	say("// Defines returns what e brings into being for lines that are about it, and whether it does.\nfunc (e *Event) Defines() (Ref, bool) {\nswitch e.Kind {")
	for _, k := range t.Kinds {
		if k.Defines != "" {
			f := k.has(k.Defines)
			say("case %s:\nreturn Ref{%s, uint64(e.%s)}, true", goName(k.Name), refOf(f), f.Go)
		}
	}
	say("}\nreturn Ref{}, false\n}\n")
	say("// About appends to refs what has to be known before e means anything, the one it is about first. A make, a register\n// and an open never wait: what they mention may come later, even mutually.\nfunc (e *Event) About(refs []Ref) []Ref {\nswitch e.Kind {")
	for _, k := range t.Kinds {
		if len(k.About) == 0 {
			continue
		}
		say("case %s:", goName(k.Name))
		for _, name := range k.About {
			f := k.has(name)
			if slices.Contains(k.Required, f) {
				say("refs = append(refs, Ref{%s, uint64(e.%s)})", refOf(f), f.Go)
				continue
			}
			say("if e.Has.Has(%s) {\nrefs = append(refs, Ref{%s, uint64(e.%s)})\n}", fName(f), refOf(f), f.Go)
		}
	}
	say("}\nreturn refs\n}\n")

	say("func appendField(dst []byte, e *Event, f Field) []byte {\nswitch f {")
	for _, f := range t.Fields {
		if f.Name == "ev" || f.Name == "t" {
			continue
		}
		say("case %s:", fName(f))
		for _, k := range t.Kinds {
			if own := k.has(f.Name); own != nil && own.own {
				say("if e.Kind == %s {\n%s\n}", goName(k.Name), appendOf(own))
			}
		}
		say("%s", appendOf(f))
	}
	say("}\nreturn append(dst, \"null\"...)\n}")
	return b.String()
}

func texts(words []string) string {
	var quoted []string
	for _, w := range words {
		quoted = append(quoted, fmt.Sprintf("%q", w))
	}
	return "[]string{" + strings.Join(quoted, ", ") + "}"
}

func refOf(f *field) string {
	switch f.Type {
	case "scope":
		return "ScopeRef"
	case "container":
		return "ContainerRef"
	}
	return "InstRef"
}

// appendOf returns the code that appends a field's value.
func appendOf(f *field) string {
	value := "e." + f.Go
	switch f.Type {
	case "text", "flow":
		return "return AppendString(dst, " + value + ")"
	case "flag":
		return "return strconv.AppendBool(dst, " + value + ")"
	case "texts":
		return "return appendStrings(dst, " + value + ")"
	case "labels", "also", "needs", "with":
		return "return append" + goName(f.Type) + "(dst, " + value + ")"
	case "part":
		return "return appendPart(dst, e)"
	case "time", "length", "times":
		return "return strconv.AppendInt(dst, " + value + ", 10)"
	}
	out := "return strconv.AppendUint(dst, uint64(" + value + "), 10)"
	if f.Null {
		out = "if " + value + "Null {\nreturn append(dst, \"null\"...)\n}\n" + out
	}
	return out
}

// readerGo is how a reader takes each field.
func (t *formatTable) readerGo() string {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	b.WriteString(generated)
	say("package reader\n\nimport \"keenlantern.example/record/event\"\n")
	say("// value reads the value of one known field that is not null.\nfunc (p *Parser) value(f event.Field) {\ne := p.ev\nswitch f {")
	for _, f := range t.Fields {
		if f.Name == "ev" || f.Type == "text" && !t.varies(f) {
			continue
		}
		say("case event.%s:", fName(f))
		for _, k := range t.Kinds {
			if own := k.has(f.Name); own != nil && own.own {
				say("if e.Kind == event.%s {\n%s\nreturn\n}", goName(k.Name), readOf(own))
			}
		}
		say("%s", readOf(f))
	}
	say("default:\n*p.textField(f) = p.name(f)\n}\n}\n")

	say("// textField returns where a field goes that is a text on all lines that have it.\nfunc (p *Parser) textField(f event.Field) *string {\nswitch f {")
	last := ""
	for _, f := range t.Fields {
		if f.Type == "text" && !t.varies(f) {
			say("case event.%s:\nreturn &p.ev.%s", fName(f), f.Go)
			last = f.Go
		}
	}
	say("}\nreturn &p.ev.%s // of value, which knows the others\n}\n", last)

	say("// quickNumber sets a field of a quick line that is a whole number, not below 0, and reports whether it may be that.\nfunc (p *Parser) quickNumber(f event.Field, n uint64) bool {\ne := p.ev\nswitch f {")
	quick := t.quickFields()
	for _, f := range quick {
		number := types[f.Type].number
		if !number && !t.varies(f) {
			continue
		}
		say("case event.%s:", fName(f))
		for _, k := range t.Kinds {
			if own := k.has(f.Name); own != nil && own.own && k.Quick && types[own.Type].number {
				say("if e.Kind == event.%s {\n%s\n}", goName(k.Name), quickOf(own))
			}
		}
		if number {
			say("%s", quickOf(f))
		} else {
			say("return false")
		}
	}
	say("}\nreturn false\n}\n")

	say("// quickText returns where a field of a quick line goes that is a text, nil for any other.\nfunc (p *Parser) quickText(f event.Field) *string {\nswitch f {")
	for _, f := range quick {
		if f.Type != "text" && f.Type != "flow" {
			continue
		}
		say("case event.%s:", fName(f))
		for _, k := range t.Kinds {
			if own := k.has(f.Name); own != nil && own.own && k.Quick && own.Type != "text" {
				say("if p.ev.Kind == event.%s {\nreturn nil\n}", goName(k.Name))
			}
		}
		say("return &p.ev.%s", f.Go)
	}
	say("}\nreturn nil\n}\n")

	say("// isQuick reports whether a kind is one of those that make up most of a trace.\nfunc isQuick(k event.Kind) bool {\nswitch k {")
	var kinds []string
	for _, k := range t.Kinds {
		if k.Quick {
			kinds = append(kinds, "event."+goName(k.Name))
		}
	}
	say("case %s:\nreturn true\n}\nreturn false\n}\n", strings.Join(kinds, ", "))
	sayQuick := func(of func(*field) string) {
		for _, k := range t.Kinds {
			if !k.Quick {
				continue
			}
			say("case event.%s:", goName(k.Name))
			for _, f := range k.all() {
				code := of(f)
				if !slices.Contains(k.Required, f) {
					code = fmt.Sprintf("if e.Has.Has(event.%s) {\n%s\n}", fName(f), code)
				}
				say("%s", code)
			}
		}
	}
	say("// pack notes the fields of a quick event. In unpack, each is taken out again in the same order.\nfunc (p *Parcel) pack(e *event.Event) {\nswitch e.Kind {")
	sayQuick(packOf)
	say("}\n}\n")
	say("func (p *Parcel) unpack(e *event.Event) {\nn, at := p.numbers, p.numberAt\nswitch e.Kind {")
	sayQuick(unpackOf)
	say("}\np.numberAt = at\n}\n")
	say("// either names the two fields of which lines of a kind have one.\nvar either = map[event.Kind][2]event.Field{")
	for _, k := range t.Kinds {
		if len(k.Either) == 2 {
			say("event.%s: {event.F%s, event.F%s},", goName(k.Name), goName(k.Either[0]), goName(k.Either[1]))
		}
	}
	say("}")
	return b.String()
}

// varies reports whether a field is something else in one kind.
func (t *formatTable) varies(f *field) bool {
	for _, k := range t.Kinds {
		if own := k.has(f.Name); own != nil && own.own {
			return true
		}
	}
	return false
}

// quickFields lists the fields of quick kinds.
func (t *formatTable) quickFields() (list []*field) {
	for _, f := range t.Fields {
		if f.Name == "t" || slices.ContainsFunc(t.Kinds, func(k *kind) bool { return k.Quick && k.has(f.Name) != nil }) {
			list = append(list, f)
		}
	}
	return list
}

func readOf(f *field) string {
	value := "e." + f.Go
	number := fmt.Sprintf("p.integer(f, %d)", types[f.Type].least)
	switch f.Type {
	case "text":
		return value + " = p.name(f)"
	case "flag":
		return value + " = p.boolean(f)"
	case "texts":
		return value + " = p.texts(f, " + value + "[:0])"
	case "labels":
		return value + " = p.labels()"
	case "flow":
		return value + " = p.flow(f)"
	case "also", "needs", "with":
		return value + " = p." + f.Type + "(" + value + "[:0])"
	case "part":
		return "p.part()"
	case "time":
		return value + " = p.integer(f, -event.MaxNumber)"
	case "length", "times":
		return value + " = " + number
	}
	return value + " = event." + types[f.Type].goType + "(" + number + ")"
}

// packOf returns the code that puts a field's value into a parcel, and unpackOf that which takes it out.
func packOf(f *field) string {
	value := "e." + f.Go
	switch f.Type {
	case "text", "flow":
		return "p.text(" + value + ")"
	case "flag":
		return "p.flag(" + value + ")"
	case "with":
		return "p.with(" + value + ")"
	}
	out := "p.number(uint64(" + value + "))"
	if f.Null {
		out += "\np.flag(" + value + "Null)"
	}
	return out
}

func unpackOf(f *field) string {
	value := "e." + f.Go
	switch f.Type {
	case "text", "flow":
		return value + " = p.nextText()"
	case "flag":
		return value + " = n[at] == 1\nat++"
	case "with":
		return value + ", at = p.nextWith(" + value + "[:0], at)"
	}
	of := types[f.Type].goType
	if of != "int64" {
		of = "event." + of
	}
	out := value + " = " + of + "(n[at])\nat++"
	if f.Null {
		out += "\n" + value + "Null = n[at] == 1\nat++"
	}
	return out
}

func quickOf(f *field) string {
	of := types[f.Type]
	set := "e." + f.Go + " = event." + of.goType + "(n)"
	if of.goType == "int64" {
		set = "e." + f.Go + " = int64(n)"
	}
	if of.least == 1 {
		return set + "\nreturn n > 0"
	}
	return set + "\nreturn true"
}
