package report

import (
	"fmt"
	"io"
	"unicode/utf16"
	"unicode/utf8"
)

// visible writes text in which control and invisible formatting characters of a trace stand as their code, as Clean writes them.
// Lines stay lines, and tabs tabs. In JSON, the code of a character within a text is that character.
type visible struct {
	out  io.Writer
	rest []byte // the beginning of a character
}

// Write writes the whole characters of p.
func (v *visible) Write(p []byte) (int, error) {
	text := p
	if len(v.rest) > 0 {
		text = append(v.rest, p...)
	}
	clean := make([]byte, 0, len(text))
	for len(text) > 0 && utf8.FullRune(text) {
		r, size := utf8.DecodeRune(text)
		if r != '\n' && r != '\t' && steers(r) {
			for _, unit := range utf16.Encode([]rune{r}) {
				clean = fmt.Appendf(clean, "\\u%04x", unit)
			}
		} else {
			clean = append(clean, text[:size]...)
		}
		text = text[size:]
	}
	v.rest = append([]byte(nil), text...)
	if _, err := v.out.Write(clean); err != nil {
		return 0, err
	}
	return len(p), nil
}
