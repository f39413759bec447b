package report

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
)

// names knows how much of each name one output has to show, so that every name in it stays different from the others:
// of a type's name the packages are left out, of a place in the source the folders. It is nil where names are shown in full.
type names struct {
	types, places shortened
}

// shortened holds the short forms of the names of one sort.
type shortened struct {
	candidates func(string) []int // where what may be left out ends, the longest first
	short      map[string]string  // by the full name; "" until all names are known
	used       map[string]int     // how many names each beginning that is left out belongs to
}

// named writes a text twice: to learn which names stand in it, and then with their short forms and a line that says what was
// left out.
func named(out io.Writer, s Style, write func(io.Writer, Style)) {
	if s.Wide {
		write(out, s)
		return
	}
	s.names = &names{types: shortened{candidates: packages, short: map[string]string{}}, places: shortened{candidates: folders, short: map[string]string{}}}
	write(io.Discard, s)
	s.names.types.settle()
	s.names.places.settle()
	write(out, s)
	if left := append(s.names.types.legend("package", "packages"), s.names.places.legend("folder", "folders")...); len(left) > 0 {
		fmt.Fprintln(out)
		wrapped(out, "Left out of names: ", len("Left out of names: "), s.width(), strings.Join(left, "; ")+". --wide shows names in full.")
	}
}

// of returns the short form of a name; before all are known, it notes the name.
func (n *shortened) of(name string) string {
	if short := n.short[name]; short != "" {
		return short
	}
	n.short[name] = ""
	return name
}

// settle chooses for each name the shortest of its ends that no other name has.
func (n *shortened) settle() {
	ends := map[string]int{}
	for name := range n.short {
		ends[name]++
		for _, at := range n.candidates(name) {
			ends[name[at:]]++
		}
	}
	n.used = map[string]int{}
	for name := range n.short {
		n.short[name] = name
		for _, at := range n.candidates(name) {
			if ends[name[at:]] == 1 {
				n.short[name] = name[at:]
				n.used[strings.TrimRight(name[:at], `./\:`)]++
				break
			}
		}
	}
}

// maxLegend bounds how many beginnings the legend names.
const maxLegend = 4

func (n *shortened) legend(one, many string) []string {
	all := slices.SortedFunc(maps.Keys(n.used), func(a, b string) int { return cmp.Or(n.used[b]-n.used[a], cmp.Compare(a, b)) })
	if len(all) == 0 {
		return nil
	}
	list := make([]string, 0, maxLegend)
	for _, name := range all[:min(maxLegend, len(all))] {
		list = append(list, Clean(name))
	}
	if len(all) > maxLegend {
		return []string{fmt.Sprintf("%s %s and %d more", many, strings.Join(list, ", "), len(all)-maxLegend)}
	}
	if len(all) == 1 {
		many = one
	}
	return []string{many + " " + strings.Join(list, ", ")}
}

// maxParts bounds how many of a name's parts are inspected, from its end.
const maxParts = 8

// packages returns where the type's own name begins, and where each package around it does. A name whose last part does not begin with
// a capital letter is not taken for a type: it is a key of the application's own, which means nothing without its first parts.
func packages(name string) []int {
	at := parts(name, `./\:`)
	if len(at) == 0 {
		return nil
	}
	if first, _ := utf8.DecodeRuneInString(name[at[0]:]); !unicode.IsUpper(first) {
		return nil
	}
	return at
}

// betweenTypes are the characters that stand between the names of types in a longer one, as in Map<Berth, Tide>, *Mast or func(Office) Desk.
const betweenTypes = "<>[](){}, \"'*&?|`"

// components calls f with each type's name in a longer one or in a sentence, and returns the text with what f returns in their places.
// A point or colon at the end of a word is the sentence's.
func components(text string, f func(string) string) string {
	var b strings.Builder
	for text != "" {
		end := strings.IndexAny(text, betweenTypes)
		if end < 0 {
			end = len(text)
		}
		if word := strings.TrimRight(text[:end], ".:;"); word != "" {
			b.WriteString(f(word))
			b.WriteString(text[len(word):end])
		} else {
			b.WriteString(text[:end])
		}
		if end < len(text) {
			b.WriteByte(text[end])
			end++
		}
		text = text[end:]
	}
	return b.String()
}

// folders returns where a file's own name begins, and where each folder around it does.
func folders(place string) []int { return parts(place, `/\`) }

// parts returns where the parts of a text begin, its last part first, without its beginning.
func parts(text, separators string) (at []int) {
	for end := len(text); len(at) < maxParts; {
		end = strings.LastIndexAny(text[:end], separators)
		if end < 1 {
			break
		}
		if end+1 < len(text) && !strings.ContainsRune(separators, rune(text[end+1])) {
			at = append(at, end+1)
		}
	}
	return at
}

// short is the name of a service or an implementation, as it came.
func (s Style) short(name string) string {
	if s.names == nil || name == "" {
		return name
	}
	return components(name, s.names.types.of)
}

// prose returns a sentence, clean, with its type names and source places shortened as elsewhere in the same output.
func (s Style) prose(text string) string {
	text = Clean(text) // from here on, it has no control characters: wasShortened is ours
	if s.names == nil {
		return text
	}
	short := components(text, func(word string) string {
		switch {
		case strings.Contains(word, "://"):
			return word
		case sourcePlace.MatchString(word):
			return s.shortPlace(word)
		case strings.HasPrefix(word, "/"), len(packages(word)) == 0: // a route; a word, which is not a qualified name
			return word
		}
		if short := s.names.types.of(word); short != word {
			return wasShortened + short
		}
		return word
	})
	// A name without its packages may begin with another sound: "an org.harbour.Ledger" is "a Ledger".
	parts := strings.Split(short, wasShortened)
	for n := range len(parts) - 1 {
		for _, article := range []string{" a ", " an "} {
			if before, ok := strings.CutSuffix(parts[n], article); ok {
				parts[n] = before + " " + finding.Article(parts[n+1]) + " "
				break
			}
		}
	}
	return strings.Join(parts, "")
}

// wasShortened marks a shortened name until its article is chosen.
const wasShortened = "\x00"

// sourcePlace matches a file in a folder with a line.
var sourcePlace = regexp.MustCompile(`^[^:]*[/\\][^/\\:]+\.\w+:\d+(:\d+)?$`)

// typeName is short, clean.
func (s Style) typeName(name string) string { return Clean(s.short(name)) }

// place is a place in the source, clean; "-" where there is none. Lines of one file have its name in common.
func (s Style) place(r *finding.Ref) string {
	at := r.Place()
	if s.names == nil || at == "" {
		return dash(at)
	}
	return Clean(s.shortPlace(at))
}

// shortPlace shows the end of a place's path, and that there is more of it.
func (s Style) shortPlace(at string) string {
	file, line := at, ""
	if n := strings.LastIndexByte(at, ':'); n > 0 {
		file, line = at[:n], at[n:]
	}
	short := s.names.places.of(file)
	if short != file {
		short = "…/" + short
	}
	return short + line
}

// whole is the name of a registration with its key, clean.
func (s Style) whole(r *finding.Ref) string {
	if r == nil {
		return "-"
	}
	return Clean(finding.Ref{Service: s.short(r.Service), Key: r.Key}.Name())
}

// impl is the name of an implementation; "-" where it is not known.
func (s Style) impl(r *finding.Ref) string {
	return dash(s.short(r.Impl()))
}

// built is whole with what it is built as, where that says more.
func (s Style) built(r *finding.Ref) string {
	if r.Impl() == "" || r.Impl() == r.Service {
		return s.whole(r)
	}
	return s.whole(r) + " = " + s.impl(r)
}

// asNamed is the implementation, or a point where it is just what the service is called.
func (s Style) asNamed(r *finding.Ref) string {
	if r.Impl() == r.Service && r.Service != "" {
		return "·"
	}
	return s.impl(r)
}

// who names an asker.
func (s Style) who(a *views.Asker) string {
	if a.Consumer != nil {
		return s.whole(a.Consumer)
	}
	return Clean(a.Who())
}
