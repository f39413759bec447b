package report

import (
	"fmt"
	"io"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
)

// Style is how text is written.
type Style struct {
	Colour bool // on a terminal that wants it; never the only sign of anything
	Width  int  // columns; 0: 120
	Wide   bool // names are shown in full, whatever the width

	names *names // of the output that is being written
}

func (s Style) width() int {
	if s.Width <= 0 {
		return 120
	}
	return max(s.Width, 40)
}

// Clean makes a text from a trace fit for a terminal: control and invisible formatting characters become visible.
func Clean(s string) string {
	if strings.IndexFunc(s, steers) < 0 && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if steers(r) || r == utf8.RuneError {
			fmt.Fprintf(&b, "\\u%04x", r)
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}

func steers(r rune) bool {
	return r != '\u202f' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029')
}

// columns counts the columns of a terminal that a text takes: wide characters take two, combining ones none.
var columns = &runewidth.Condition{}

// Shorten cuts a text to width in the middle: the ends of a name matter most.
func Shorten(s string, width int) string {
	if columns.StringWidth(s) <= width || width < 5 {
		return s
	}
	tail := (width - 1) * 2 / 3
	return columns.Truncate(s, width-1-tail, "") + "…" + columns.TruncateLeft(s, columns.StringWidth(s)-tail, "")
}

const (
	bold  = "\x1b[1m"
	dim   = "\x1b[2m"
	red   = "\x1b[31m"
	amber = "\x1b[33m"
	blue  = "\x1b[34m"
	plain = "\x1b[0m"
)

func (s Style) paint(colour, text string) string {
	if !s.Colour || text == "" {
		return text
	}
	return colour + text + plain
}

// wrapped writes text in a column that starts at indent, the first line behind lead.
func wrapped(out io.Writer, lead string, indent, width int, text string) {
	width = max(width, indent+24)
	line := lead + strings.Repeat(" ", max(0, indent-columns.StringWidth(lead)))
	at := indent
	empty := true
	for _, word := range strings.Split(text, " ") {
		n := columns.StringWidth(word)
		if !empty && at+1+n > width {
			fmt.Fprintln(out, line)
			line, at, empty = strings.Repeat(" ", indent), indent, true
		}
		if !empty {
			line += " "
			at++
		}
		line += word
		at += n
		empty = false
	}
	fmt.Fprintln(out, line)
}

// Table writes rows under a head in columns as wide as their widest cell. Numeric columns, named by their index, stand
// to the right. The last column is not padded.
func Table(out io.Writer, head []string, rows [][]string, numeric ...int) {
	wide := make([]int, len(head))
	right := make([]bool, len(head))
	for _, n := range numeric {
		right[n] = true
	}
	for _, row := range append([][]string{head}, rows...) {
		for n, cell := range row {
			wide[n] = max(wide[n], columns.StringWidth(cell))
		}
	}
	for _, row := range append([][]string{head}, rows...) {
		var b strings.Builder
		for n, cell := range row {
			pad := strings.Repeat(" ", wide[n]-columns.StringWidth(cell))
			switch {
			case right[n]:
				b.WriteString(pad + cell)
			case n == len(row)-1:
				b.WriteString(cell)
			default:
				b.WriteString(cell + pad)
			}
			if n < len(row)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(out, strings.TrimRight(b.String(), " "))
	}
}
