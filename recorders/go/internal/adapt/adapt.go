// Package adapt is what adapters of containers have in common.
package adapt

import (
	"fmt"
	"path"
	"path/filepath"
	"reflect"
	"regexp"
	"runtime"
	"strings"
	"sync"
)

// Names gives types names that are short, and different for different types. The zero value is ready, and may be used by
// several goroutines at once.
type Names struct {
	mu     sync.RWMutex
	byFull map[string]string
	taken  map[string]string // whose it is
	byType map[reflect.Type]string
}

// maxNames bounds how many are kept. Types beyond it use their full names.
const maxNames = 100_000

var (
	folders = regexp.MustCompile(`[^\[\]()*,; ]*/`)
)

// Of returns a short name for a full one, such as "*example.org/harbour/berths.Ledger": "berths.Ledger", and where that is
// another type's already, as much more of it as distinguish them.
func (n *Names) Of(full string) string {
	n.mu.RLock()
	name, ok := n.byFull[full]
	n.mu.RUnlock()
	if ok {
		return name
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if name, ok = n.byFull[full]; ok {
		return name
	}
	if len(n.byFull) >= maxNames {
		return full
	}
	if n.byFull == nil {
		n.byFull, n.taken = map[string]string{}, map[string]string{}
	}
	starred := folders.ReplaceAllString(full, "")
	short := strings.TrimLeft(starred, "*")
	ways := []string{short, strings.TrimLeft(withLast(full), "*"), withLast(full), full}
	if strings.TrimLeft(n.taken[short], "*") == strings.TrimLeft(full, "*") {
		ways[1] = starred // beside a pointer to the same
	}
	for _, name = range ways {
		if _, other := n.taken[name]; !other {
			break
		}
	}
	n.byFull[full], n.taken[name] = name, full
	return name
}

// withLast keeps the last folder of each path.
func withLast(full string) string {
	return folders.ReplaceAllStringFunc(full, func(path string) string {
		parts := strings.Split(strings.TrimSuffix(path, "/"), "/")
		return parts[len(parts)-1] + "/"
	})
}

// Type returns a short name for a type.
func (n *Names) Type(t reflect.Type) string {
	if t == nil {
		return ""
	}
	n.mu.RLock()
	name, ok := n.byType[t]
	n.mu.RUnlock()
	if ok {
		return name
	}
	name = n.Of(Full(t))
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.byType == nil {
		n.byType = map[reflect.Type]string{}
	}
	if len(n.byType) < maxNames {
		n.byType[t] = name
	}
	return name
}

// Full returns a type's name with its package's whole path.
func Full(t reflect.Type) string {
	switch {
	case t.Name() != "" && t.PkgPath() != "":
		return t.PkgPath() + "." + t.Name()
	case t.Name() != "":
		return t.Name()
	case t.Kind() == reflect.Pointer:
		return "*" + Full(t.Elem())
	case t.Kind() == reflect.Slice:
		return "[]" + Full(t.Elem())
	case t.Kind() == reflect.Array:
		return fmt.Sprintf("[%d]%s", t.Len(), Full(t.Elem()))
	case t.Kind() == reflect.Map:
		return "map[" + Full(t.Key()) + "]" + Full(t.Elem())
	}
	return t.String()
}

// Basic reports whether a type is not shared as a service: a number, a text, a moment, a list of them.
func Basic(t reflect.Type) bool {
	switch t.Kind() {
	case reflect.Bool, reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint, reflect.Uint8, reflect.Uint16,
		reflect.Uint32, reflect.Uint64, reflect.Uintptr, reflect.Float32, reflect.Float64, reflect.Complex64, reflect.Complex128, reflect.String:
		return true
	case reflect.Slice, reflect.Array, reflect.Map:
		return Basic(t.Elem())
	}
	return false
}

// Closes reports whether something of a type has to be released: it has one of the methods Close, Shutdown or Stop, without
// results or with an error, and without arguments or with a context.
func Closes(t reflect.Type) bool {
	if t == nil {
		return false
	}
	for _, name := range [...]string{"Close", "Shutdown", "Stop"} {
		m, ok := t.MethodByName(name)
		if !ok {
			continue
		}
		in := m.Type.NumIn()
		if t.Kind() != reflect.Interface {
			in-- // the receiver
		}
		if in == 0 || in == 1 && m.Type.In(m.Type.NumIn()-1) == contextType {
			if m.Type.NumOut() == 0 || m.Type.NumOut() == 1 && m.Type.Out(0) == errorType {
				return true
			}
		}
	}
	return false
}

// Caller returns where the code stands that called into one of the packages, whose paths are given: "wiring.go:41".
//
// A generic function's body may count as its caller's, so that the file shows it where its function's name does not.
func Caller(packages ...string) string {
	var pcs [32]uintptr
	frames := runtime.CallersFrames(pcs[:runtime.Callers(2, pcs[:])])
	for {
		f, more := frames.Next()
		if !within(&f, packages) {
			if f.File == "" {
				return ""
			}
			return fmt.Sprintf("%s:%d", filepath.Base(f.File), f.Line)
		}
		if !more {
			return ""
		}
	}
}

// within reports whether a frame is in one of the packages: by its function's name, or by its file, which lies in a folder of
// the package's name and version, of its name within a vendor folder, or, for a module of a workspace, in one that ends so.
func within(f *runtime.Frame, packages []string) bool {
	for _, p := range packages {
		if rest, ok := strings.CutPrefix(f.Function, p); ok && strings.HasPrefix(rest, ".") {
			return true
		}
		if strings.Contains(f.File, p+"@") || strings.Contains(f.File, "vendor/"+p+"/") || strings.HasSuffix(path.Dir(f.File), workspace(p)) {
			return true
		}
	}
	return false
}

// workspace returns the end of the folder of one of our own packages, as its repository has it.
func workspace(p string) string {
	if rest, ok := strings.CutPrefix(p, "keenlantern.example/record"); ok {
		return "/recorders/go" + rest
	}
	return "\x00" // no folder ends so
}
