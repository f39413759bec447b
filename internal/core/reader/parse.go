package reader

import (
	"fmt"
	"time"

	"keenlantern.example/record/event"
)

// Parser parses lines one at a time into the same event. The zero value is ready.
type Parser struct {
	names  interned
	shapes shapes
	learns bool
	ev     *event.Event // being filled
	room   event.Event  // for Parse
	text   []byte
	pos    int
	plain  []byte // room for a string whose escapes were resolved
	why    string // the first thing that was wrong
}

// Parse parses one line. The Line's Event is overwritten by the next call; text is not kept.
func (p *Parser) Parse(text []byte) Line { return p.ParseInto(text, &p.room) }

// ParseInto parses one line into ev, which the Line's Event then is.
func (p *Parser) ParseInto(text []byte, ev *event.Event) Line {
	var line Line
	line.Event, line.Refused, line.Unknown = p.parse(text, nil, ev)
	return line
}

// parse is ParseInto for who reads many lines: wide is text with what comes behind it, and shapes are learnt then; nil otherwise.
func (p *Parser) parse(text, wide []byte, ev *event.Event) (_ *event.Event, refused string, unknown bool) {
	p.text, p.pos, p.why, p.ev, p.learns = text, 0, "", ev, wide != nil
	p.ev.Reset()
	if p.learns {
		if p.known(wide) {
			return ev, "", false
		}
		p.ev.Reset()
	}
	if p.quick() {
		return ev, "", false
	}
	p.ev.Reset()
	p.pos = 0
	if !p.quickKind() {
		kind, named := p.kind()
		if p.why == "" && !named {
			p.fail("no ev: every event names its kind")
		}
		if p.why != "" {
			return nil, p.why, false
		}
		p.pos = 0
		p.ev.Kind = kind
		p.space()
		p.pos++
		p.space()
	}
	kind := p.ev.Kind
	if p.members(); p.why != "" {
		return nil, p.why, false
	}
	if kind == event.Unknown {
		return nil, "", true
	}
	if p.complete(); p.why != "" {
		return nil, p.why, false
	}
	return ev, "", false
}

// quickKind takes the ev member where it comes first and without spaces, as recorders write it, and stands behind its
// comma then.
func (p *Parser) quickKind() bool {
	if len(p.text) < len(head) || string(p.text[:len(head)]) != head {
		return false
	}
	for n := len(head); n < len(p.text); n++ {
		switch c := p.text[n]; {
		case c == '"':
			kind := event.KindOf(p.text[len(head):n])
			if kind == event.Unknown || n+2 >= len(p.text) || p.text[n+1] != ',' || p.text[n+2] != '"' {
				return false
			}
			p.ev.Kind, p.pos = kind, n+2
			return true
		case c < 'a' || c > 'z':
			return false
		}
	}
	return false
}

func (p *Parser) fail(format string, args ...any) {
	if p.why == "" {
		p.why = fmt.Sprintf(format, args...)
	}
}

func (p *Parser) syntax(what string) {
	if p.pos >= len(p.text) {
		p.fail("not JSON: it ends where %s should be", what)
		return
	}
	p.fail("not JSON: at byte %d stands %q where %s should be", p.pos+1, p.text[p.pos], what)
}

// kind finds the ev member, which recorders write first but need not.
func (p *Parser) kind() (event.Kind, bool) {
	p.space()
	if p.pos >= len(p.text) || p.text[p.pos] != '{' {
		if p.skip(0); p.why == "" {
			p.fail("not an object: an event is one JSON object a line")
		}
		return 0, false
	}
	p.pos++
	p.space()
	if p.peek() == '}' {
		return 0, false
	}
	for p.why == "" {
		name := p.stringBytes()
		p.colon()
		if string(name) == "ev" {
			if p.peek() != '"' {
				p.fail("ev is not a text")
				return 0, false
			}
			return event.KindOf(p.stringBytes()), p.why == ""
		}
		p.skip(0)
		p.space()
		if p.peek() != ',' {
			break
		}
		p.pos++
		p.space()
	}
	return 0, false
}

// members reads the rest of the object from a name on, and that nothing stands behind it.
func (p *Parser) members() {
	if p.peek() == '}' {
		p.pos++
	} else {
		for {
			if p.peek() != '"' {
				p.syntax("a name")
				return
			}
			f, known := event.FieldOf(p.stringBytes())
			p.colon()
			if p.why != "" {
				return
			}
			if !known || !p.ev.Kind.Allows(f) || p.ev.Kind == event.Unknown || f == event.FEv {
				p.skip(1)
			} else {
				p.field(f)
			}
			if p.why != "" {
				return
			}
			p.space()
			c := p.peek()
			p.pos++
			if c == ',' {
				p.space()
				continue
			}
			if c == '}' {
				break
			}
			p.pos--
			p.syntax("a comma or the end of the object")
			return
		}
	}
	p.space()
	if p.pos < len(p.text) {
		p.fail("not JSON: more than one value, at byte %d", p.pos+1)
	}
}

// complete checks what a line of its kind must have.
func (p *Parser) complete() {
	e := p.ev
	if !e.Has.Has(event.FT) {
		p.fail("%s without t", e.Kind)
		return
	}
	if missing, any := e.Kind.Required().Without(e.Has).First(); any {
		p.fail("%s without %s", e.Kind, missing)
		return
	}
	if of, any := either[e.Kind]; any && !e.Has.Has(of[0]) && !e.Has.Has(of[1]) {
		p.fail("%s without %s or %s", e.Kind, of[0], of[1])
		return
	}
	if e.Kind == event.Hello {
		if e.Format != event.Format {
			p.fail("format is %q: this version reads %s", e.Format, event.Format)
		} else if _, err := time.Parse(time.RFC3339, e.Start); err != nil {
			p.fail("start is %q: a time as in RFC 3339 is needed, such as 2026-03-02T05:40:00.000000000Z", e.Start)
		} else if e.App == "" || e.Stream == "" {
			p.fail("hello with an empty app or stream")
		}
	}
	if !e.Has.Has(event.FCount) {
		e.Count = 1
	}
	if !e.Has.Has(event.FWeight) {
		e.Weight = 1
	}
}

// field reads the value of one known field. Null stands for an absent optional one, but for owner.
func (p *Parser) field(f event.Field) {
	e := p.ev
	if p.peek() == 'n' {
		p.literal("null")
		if f == event.FOwner {
			e.OwnerNull = true
			e.Has.Set(f)
		}
		return
	}
	p.value(f)
	e.Has.Set(f)
}

// flow reads an integer or a text, which stands for a flow of work.
func (p *Parser) flow(f event.Field) string {
	if p.peek() == '"' {
		return p.name(f)
	}
	from := p.pos
	if p.integer(f, -event.MaxNumber); p.why != "" {
		return ""
	}
	return p.names.text(p.text[from:p.pos])
}

func (p *Parser) labels() map[string]string {
	if p.peek() != '{' {
		p.fail("labels is not an object")
		return nil
	}
	labels := map[string]string{}
	p.object(func(name []byte) {
		if p.peek() != '"' {
			p.skip(2)
			return
		}
		key := string(name)
		labels[key] = string(p.bounded(event.FLabels, p.stringBytes()))
	})
	return labels
}

func (p *Parser) texts(f event.Field, list []string) []string {
	p.array(f.String(), func() { list = append(list, p.name(f)) })
	return list
}

// part reads where a registration applies as a layer.
func (p *Parser) part() {
	e := p.ev
	e.InCont, e.InModule, e.InKind = 0, "", ""
	p.record("in", func(name []byte) {
		switch string(name) {
		case "container":
			e.InCont = event.ContainerID(p.integer(event.FContainer, 1))
		case "module":
			e.InModule = p.name(event.FModule)
		case "scope":
			e.InKind = p.name(event.FKind)
		default:
			p.skip(3)
		}
	})
	if e.InCont == 0 && e.InModule == "" && e.InKind == "" {
		p.fail("in names neither a container nor a module nor a kind of scope")
	}
}

func (p *Parser) also(list []event.Also) []event.Also {
	p.array("also", func() {
		var a event.Also
		p.record("also", func(name []byte) {
			switch string(name) {
			case "service":
				a.Service = p.name(event.FService)
			case "key":
				a.Key, a.HasKey = p.optionalName(event.FKey)
			default:
				p.skip(3)
			}
		})
		if a.Service == "" {
			p.fail("also has an entry without service")
		}
		list = append(list, a)
	})
	return list
}

func (p *Parser) needs(list []event.Need) []event.Need {
	p.array("needs", func() {
		var n event.Need
		p.record("needs", func(name []byte) {
			switch string(name) {
			case "service":
				n.Service = p.name(event.FService)
			case "key":
				n.Key, n.HasKey = p.optionalName(event.FKey)
			case "site":
				n.Site, _ = p.optionalName(event.FSite)
			case "how":
				n.How, _ = p.optionalName(event.FHow)
			case "all":
				n.All = p.optionalBool(event.FAll)
			case "optional":
				n.Optional = p.optionalBool(event.FOptional)
			case "lazy":
				n.Lazy = p.optionalBool(event.FAll)
			default:
				p.skip(3)
			}
		})
		if n.Service == "" {
			p.fail("needs has an entry without service")
		}
		list = append(list, n)
	})
	return list
}

func (p *Parser) with(list []event.With) []event.With {
	if quick, ok := p.plainList(list); ok {
		return quick
	}
	slot := 0
	p.array("with", func() {
		if p.peek() == '[' {
			before := len(list)
			p.array("with", func() {
				w := p.given()
				w.Slot, w.All = slot, true
				list = append(list, w)
			})
			if len(list) == before {
				list = append(list, event.With{Slot: slot, All: true, Absent: true})
			}
		} else {
			w := p.given()
			w.Slot = slot
			list = append(list, w)
		}
		slot++
	})
	return list
}

// given reads one thing that an instance was given: an id, null, or an object with more.
func (p *Parser) given() (w event.With) {
	switch p.peek() {
	case 'n':
		p.literal("null")
		w.Absent = true
	case '{':
		known := false
		p.object(func(name []byte) {
			switch string(name) {
			case "inst":
				if p.peek() == 'n' {
					p.literal("null") // as left out
				} else {
					w.Inst, known = event.InstID(p.integer(event.FWith, 0)), true
				}
			case "site":
				w.Site, _ = p.optionalName(event.FSite)
			case "service":
				w.Service, _ = p.optionalName(event.FService)
			case "key":
				w.Key, w.HasKey = p.optionalName(event.FKey)
			case "via":
				if p.peek() == 'n' {
					p.literal("null")
				} else {
					w.Via = event.RegID(p.integer(event.FVia, 1))
				}
			case "kept":
				if p.peek() == 'n' {
					p.literal("null")
				} else {
					w.Passing = !p.boolean(event.FWith)
				}
			case "unknown":
				w.Unseen = p.optionalBool(event.FWith)
			default:
				p.skip(3)
			}
		})
		if !known && !w.Unseen {
			p.fail("with has an entry without inst")
		}
	default:
		w.Inst = event.InstID(p.integer(event.FWith, 0))
	}
	return w
}

// record reads an object that must be one.
func (p *Parser) record(what string, member func(name []byte)) {
	if p.peek() != '{' {
		p.fail("%s has an entry that is not an object", what)
		return
	}
	p.object(member)
}

func (p *Parser) optionalName(f event.Field) (string, bool) {
	if p.peek() == 'n' {
		p.literal("null")
		return "", false
	}
	return p.name(f), true
}

func (p *Parser) optionalBool(f event.Field) bool {
	if p.peek() == 'n' {
		p.literal("null")
		return false
	}
	return p.boolean(f)
}

// name reads a text that a field must be.
func (p *Parser) name(f event.Field) string {
	if p.peek() != '"' {
		p.wrong(f, "a text")
		return ""
	}
	return p.names.text(p.bounded(f, p.stringBytes()))
}

// bounded refuses a text that is too long: a name is repeated in findings, states and pages.
func (p *Parser) bounded(f event.Field, b []byte) []byte {
	if len(b) > event.MaxText {
		p.fail("%s is longer than %d bytes", f, event.MaxText)
		return nil
	}
	return b
}

func (p *Parser) wrong(f event.Field, want string) {
	if f == event.FKey && want == "a text" {
		want = keyWanted
	}
	if p.pos >= len(p.text) {
		p.syntax("a value")
		return
	}
	// What is no value at all is bad JSON before it is a wrong type.
	at := p.pos
	if p.skip(1); p.why == "" {
		p.pos = at
		p.fail("%s is not %s", f, want)
	}
}

// keyWanted is how to write a key that is not a text.
const keyWanted = `a text: write a key of another type as its type in parentheses and its value, such as "(int) 1"`

func (p *Parser) boolean(f event.Field) bool {
	switch p.peek() {
	case 't':
		p.literal("true")
		return true
	case 'f':
		p.literal("false")
		return false
	}
	p.wrong(f, "true or false")
	return false
}

// integer reads a whole number of at least least.
func (p *Parser) integer(f event.Field, least int64) int64 {
	at, i := p.pos, p.pos
	text := p.text
	negative := i < len(text) && text[i] == '-'
	if negative {
		i++
	}
	first := i
	var n int64
	for i < len(text) {
		d := text[i] - '0'
		if d > 9 {
			break
		}
		if n = n*10 + int64(d); n > event.MaxNumber {
			p.wrong(f, "below 2^53")
			return 0
		}
		i++
	}
	if i == first || (text[first] == '0' && i > first+1) || (i < len(text) && (text[i] == '.' || text[i]|0x20 == 'e')) {
		p.wrong(f, "a whole number")
		return 0
	}
	if negative {
		n = -n
	}
	p.pos = i
	if n < least {
		p.pos = at
		p.wrong(f, fmt.Sprintf("%d or more", least))
		return 0
	}
	return n
}
