package uberdig

import (
	"fmt"
	"net/url"
	"reflect"
	"regexp"
	"runtime"
	"strconv"
	"strings"

	"keenlantern.example/record"
)

// blamed is an error of dig's that names the application's own functions, where dig saw those that stand in for them.
type blamed struct {
	error
	scope *Scope
	f     string // the place of what was invoked or decorated with
}

// blame makes one.
func (s *Scope) blame(err error, f reflect.Value) error {
	if !strings.Contains(err.Error(), standIn) {
		return err
	}
	return &blamed{err, s, locationOf(f.Pointer())}
}

// Error is dig's text, with the application's functions.
func (e *blamed) Error() string { return e.own(e.error.Error()) }

// Unwrap returns dig's error.
func (e *blamed) Unwrap() error { return e.error }

// Format prints as dig does: %+v over several lines.
func (e *blamed) Format(w fmt.State, verb rune) {
	format := "%" + string(verb)
	if w.Flag('+') {
		format = "%+" + string(verb)
	}
	fmt.Fprint(w, e.own(fmt.Sprintf(format, e.error)))
}

// standIn is how dig names a function that stands in for another one.
const standIn = `"reflect".makeFuncStub`

// place is how dig goes on, on one line or on two.
var place = regexp.MustCompile(`^(?: \(([^()]*:\d+)\)|\n\t(\S*:\d+))`)

// own puts the application's functions where the text names what stands in for them. Such a function is a decorator of what the
// text has just said cannot be built, and what was invoked where it has said nothing like that.
func (e *blamed) own(text string) string {
	var b strings.Builder
	for {
		at := strings.Index(text, standIn)
		if at < 0 {
			return b.String() + text
		}
		before, rest := text[:at], text[at+len(standIn):]
		m := place.FindStringSubmatch(rest)
		if m == nil {
			return b.String() + text
		}
		f := e.f
		if of := building.FindAllStringSubmatch(before, -1); len(of) > 0 {
			f = e.scope.layerOf(of[len(of)-1][1])
		}
		if f == "" {
			b.WriteString(text[:at+len(standIn)])
			text = rest
			continue
		}
		name, where, _ := strings.Cut(f, "\n")
		b.WriteString(before + name)
		if m[1] != "" {
			b.WriteString(" (" + where + ")")
		} else {
			b.WriteString("\n\t" + where)
		}
		text = rest[len(m[0]):]
	}
}

// layerOf returns the place of the decorator of what dig names so, "" if there is none.
func (s *Scope) layerOf(name string) string {
	for at := s; at != nil; at = at.outer {
		if layer, ok := at.layers[name]; ok {
			return layer
		}
	}
	return ""
}

// locationOf returns a function's name as dig writes it, and on a second line its place.
func locationOf(pc uintptr) string {
	f := runtime.FuncForPC(pc)
	if f == nil {
		return standIn + "\n"
	}
	file, line := f.FileLine(pc)
	pkg, name := f.Name(), ""
	slash := strings.LastIndex(pkg, "/") + 1
	if dot := strings.Index(pkg[slash:], "."); dot >= 0 {
		pkg, name = pkg[:slash+dot], pkg[slash+dot+1:]
	}
	if _, rest, vendored := strings.Cut(pkg, "/vendor/"); vendored {
		pkg = rest
	}
	if plain, err := url.QueryUnescape(pkg); err == nil {
		pkg = plain
	}
	return fmt.Sprintf("%q.%s\n%s:%d", pkg, name, file, line)
}

var (
	// missing is how dig names missing types: "missing type: *main.Tides (did you mean ...)", "missing types: A; B".
	missing = regexp.MustCompile(`missing types?:\s+([^()]*[^()\s])`)
	// building is a step of the way to it.
	building = regexp.MustCompile(`(?:failed to build|could not build value group) ([^\s:]+(?:\[[^\]]*\])?):`)
)

// maxPath bounds the recorded path.
const maxPath = 64

// path lists what was being built, as far as an error shows.
func (sh *shared) path(err error) (path []string) {
	for _, m := range building.FindAllStringSubmatch(err.Error(), maxPath) {
		of, _ := digKey(m[1])
		path = append(path, sh.typeName(of))
	}
	return path
}

// asker returns the registration whose constructor could not be called, as far as an error says, 0 otherwise.
func (sh *shared) asker(err error) record.RegID {
	steps := building.FindAllStringSubmatch(err.Error(), maxPath)
	if len(steps) == 0 {
		return 0
	}
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return sh.named[steps[len(steps)-1][1]]
}

// digKey reads how dig names something: *main.Tides, *main.Tides[name="gauge"], *main.Tides[group="g"].
func digKey(text string) (of, key string) {
	for _, part := range []string{"[name=", "[group="} {
		if at := strings.LastIndex(text, part); at >= 0 && strings.HasSuffix(text, "]") {
			if plain, err := strconv.Unquote(text[at+len(part) : len(text)-1]); err == nil {
				return text[:at], plain
			}
		}
	}
	return text, ""
}
