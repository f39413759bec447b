package reader

import (
	"unicode/utf16"
	"unicode/utf8"
)

// maxDepth bounds how deep arrays and objects of unknown fields may nest.
const maxDepth = 64

// This file is JSON (RFC 8259) itself, and knows nothing of events.

func (p *Parser) space() {
	if p.pos < len(p.text) && p.text[p.pos] > ' ' {
		return
	}
	p.spaces()
}

func (p *Parser) spaces() {
	for p.pos < len(p.text) {
		switch p.text[p.pos] {
		case ' ', '\t', '\r', '\n':
			p.pos++
		default:
			return
		}
	}
}

func (p *Parser) peek() byte {
	if p.pos < len(p.text) {
		return p.text[p.pos]
	}
	return 0
}

func (p *Parser) colon() {
	if p.pos+1 < len(p.text) && p.text[p.pos] == ':' && p.text[p.pos+1] > ' ' {
		p.pos++
		return
	}
	p.space()
	if p.why == "" && p.peek() != ':' {
		p.syntax("a colon")
		return
	}
	p.pos++
	p.space()
}

func (p *Parser) literal(word string) {
	if len(p.text)-p.pos >= len(word) && string(p.text[p.pos:p.pos+len(word)]) == word {
		p.pos += len(word)
		return
	}
	p.syntax("a value")
}

// object reads the object at pos and calls member with pos at each value, which member has to read. The name is
// overwritten when member reads a text.
func (p *Parser) object(member func(name []byte)) {
	p.space()
	p.pos++
	p.space()
	if p.peek() == '}' {
		p.pos++
		return
	}
	for {
		if p.peek() != '"' {
			p.syntax("a name")
			return
		}
		name := p.stringBytes()
		p.colon()
		if p.why != "" {
			return
		}
		if member(name); p.why != "" {
			return
		}
		p.space()
		switch p.peek() {
		case ',':
			p.pos++
			p.space()
		case '}':
			p.pos++
			return
		default:
			p.syntax("a comma or the end of the object")
			return
		}
	}
}

// array reads the array at pos and calls element with pos at each value, which element has to read.
func (p *Parser) array(what string, element func()) {
	if p.peek() != '[' {
		p.fail("%s is not a list", what)
		return
	}
	p.pos++
	p.space()
	if p.peek() == ']' {
		p.pos++
		return
	}
	for {
		if element(); p.why != "" {
			return
		}
		p.space()
		switch p.peek() {
		case ',':
			p.pos++
			p.space()
		case ']':
			p.pos++
			return
		default:
			p.syntax("a comma or the end of the list")
			return
		}
	}
}

// skip passes over one value of any shape and checks it on the way. The nesting is bounded.
func (p *Parser) skip(depth int) {
	if depth > maxDepth {
		p.fail("nested deeper than %d", maxDepth)
		return
	}
	switch c := p.peek(); {
	case c == '"':
		p.stringBytes()
	case c == '{':
		p.object(func([]byte) { p.skip(depth + 1) })
	case c == '[':
		p.array("", func() { p.skip(depth + 1) })
	case c == 't':
		p.literal("true")
	case c == 'f':
		p.literal("false")
	case c == 'n':
		p.literal("null")
	case c == '-' || c >= '0' && c <= '9':
		p.number()
	default:
		p.syntax("a value")
	}
}

func (p *Parser) digits() bool {
	from := p.pos
	for p.pos < len(p.text) && p.text[p.pos]-'0' <= 9 {
		p.pos++
	}
	return p.pos > from
}

func (p *Parser) number() {
	if p.peek() == '-' {
		p.pos++
	}
	from := p.pos
	if !p.digits() {
		p.syntax("a digit")
		return
	}
	if p.text[from] == '0' && p.pos > from+1 {
		p.pos = from + 1
		p.syntax("the end of a number that starts with 0")
		return
	}
	if p.peek() == '.' {
		p.pos++
		if !p.digits() {
			p.syntax("a digit")
			return
		}
	}
	if p.peek()|0x20 == 'e' {
		p.pos++
		if c := p.peek(); c == '+' || c == '-' {
			p.pos++
		}
		if !p.digits() {
			p.syntax("a digit")
		}
	}
}

// stringBytes reads the string at pos. The bytes are the line's own, or p.plain where it had escapes.
func (p *Parser) stringBytes() []byte {
	if p.peek() != '"' {
		p.syntax("a text")
		return nil
	}
	p.pos++
	from := p.pos
	text := p.text
	ascii := true
	for i := from; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			p.pos = i + 1
			if !ascii && !utf8.Valid(text[from:i]) {
				p.fail("not UTF-8: in the text at byte %d", from)
			}
			return text[from:i]
		case c == '\\':
			return p.escaped(from)
		case c < 0x20:
			p.pos = i
			p.syntax("an escaped control character")
			return nil
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	p.pos = len(text)
	p.syntax("the end of a text")
	return nil
}

// escaped reads the string that starts at from with its escapes resolved.
func (p *Parser) escaped(from int) []byte {
	p.plain = p.plain[:0]
	text := p.text
	for i := from; i < len(text); {
		c := text[i]
		switch {
		case c == '"':
			p.pos = i + 1
			if !utf8.Valid(p.plain) {
				p.fail("not UTF-8: in the text at byte %d", from)
			}
			return p.plain
		case c < 0x20:
			p.pos = i
			p.syntax("an escaped control character")
			return nil
		case c != '\\':
			p.plain = append(p.plain, c)
			i++
		default:
			n := p.escape(text[i:])
			if n == 0 {
				p.pos = i
				p.fail("not JSON: a bad escape at byte %d", i+1)
				return nil
			}
			i += n
		}
	}
	p.pos = len(text)
	p.syntax("the end of a text")
	return nil
}

var simpleEscapes = [256]byte{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}

// escape appends what the escape at the start of s stands for and returns its length, 0 if it is none.
func (p *Parser) escape(s []byte) int {
	if len(s) < 2 {
		return 0
	}
	if s[1] != 'u' {
		if b := simpleEscapes[s[1]]; b != 0 {
			p.plain = append(p.plain, b)
			return 2
		}
		return 0
	}
	r, ok := unicodeEscape(s)
	if !ok {
		return 0
	}
	if utf16.IsSurrogate(r) {
		if low, ok := unicodeEscape(s[6:]); ok {
			if both := utf16.DecodeRune(r, low); both != utf8.RuneError {
				p.plain = utf8.AppendRune(p.plain, both)
				return 12
			}
		}
		r = utf8.RuneError
	}
	p.plain = utf8.AppendRune(p.plain, r)
	return 6
}

func unicodeEscape(s []byte) (r rune, ok bool) {
	if len(s) < 6 || s[0] != '\\' || s[1] != 'u' {
		return 0, false
	}
	for _, c := range s[2:6] {
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c|0x20 >= 'a' && c|0x20 <= 'f':
			r = r<<4 | rune(c|0x20-'a'+10)
		default:
			return 0, false
		}
	}
	return r, true
}
