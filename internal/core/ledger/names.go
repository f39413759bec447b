package ledger

import (
	"unsafe"

	"keenlantern.example/record/event"
)

// MaxNameBytes bounds what one stream's distinct names take (of scopes, entry points, sites, implementations, failed
// services …), each with its share of the table that holds them. Registrations have a bound of their own, MaxRegBytes.
const MaxNameBytes = 4 << 20

// nameCost is what a name costs besides its bytes.
const nameCost = 64

// OtherNames stands for every name that there was no room for.
const OtherNames = "other names"

// longestRecent bounds what recent holds on to besides the names themselves, in bytes a name.
const longestRecent = 256

// longestTrace bounds a trace-id that is kept, in bytes; a W3C one has 32. A scope's trace-id is its own, so that those of
// a stream cannot be bounded together.
const longestTrace = 128

// maxPath bounds how many steps of a failure's path are kept, the last ones.
const maxPath = 64

// names holds each distinct name of a stream once, within MaxNameBytes.
type names struct {
	known map[string]string
	bytes int
	over  int64 // how often there was no room for one

	// The names met last, by where their text stands, and how each is held: a reader gives the same text for the same name, which
	// is faster to know again than to look up.
	recent [256]struct{ met, held string } `freeze:"-"`

	namings  map[naming]Naming
	numbered [64]struct {
		naming
		number Naming
	} `freeze:"-"` // those met last
}

// intern returns name as it is held here, false if there is no room for it.
func (n *names) intern(name string) (string, bool) {
	if name == "" {
		return "", true
	}
	at := unsafe.StringData(name)
	slot := &n.recent[(uintptr(unsafe.Pointer(at))>>4^uintptr(len(name)))%uintptr(len(n.recent))]
	if len(slot.met) == len(name) && unsafe.StringData(slot.met) == at {
		return slot.held, true
	}
	held, known := n.known[name]
	if !known {
		if n.bytes+len(name)+nameCost > MaxNameBytes {
			n.over++
			return "", false
		}
		n.bytes += len(name) + nameCost
		held = name
		n.known[name] = name
	}
	if len(name) <= longestRecent {
		slot.met, slot.held = name, held
	}
	return held, true
}

// or replaces a name that there is no room for.
func (n *names) or(name *string, instead string) {
	held, ok := n.intern(*name)
	if !ok {
		held = instead
	}
	*name = held
}

// bound makes the names of an event those that are held. One there is no room for is counted with all others of its
// kind, or left out where two that are not the same would be taken for one.
func (n *names) bound(ev *event.Event) {
	if !ev.Has.Meets(named) {
		return
	}
	switch ev.Kind {
	case event.Open:
		n.or(&ev.ScopeKind, OtherNames)
		n.or(&ev.Name, OtherNames)
		n.or(&ev.Closer, "")
		n.or(&ev.At, "")
		if len(ev.Trace) > longestTrace {
			ev.Trace = ""
		}
	case event.Make:
		if ev.Has.Meets(namedByMake) {
			n.or(&ev.By, "")
			n.or(&ev.Impl, "")
			n.or(&ev.Disposer, "")
			n.or(&ev.Module, "")
			n.or(&ev.At, "")
		}
		for k := range ev.With {
			w := &ev.With[k]
			n.or(&w.Site, "")
			if w.Service != "" || w.HasKey {
				n.asked(&w.Service, &w.Key, func() { w.HasKey = false })
			}
		}
	case event.Give:
		n.or(&ev.Entry, OtherNames)
		n.or(&ev.How, "")
		n.or(&ev.Site, "")
		n.or(&ev.Module, "")
		if ev.Service != "" || ev.Key != "" {
			n.asked(&ev.Service, &ev.Key, func() { ev.Has.Drop(event.FService, event.FKey) })
		}
	case event.Use:
		n.or(&ev.Site, "")
		n.or(&ev.Thread, "")
	case event.Dispose:
		n.or(&ev.By, "")
		n.or(&ev.Error, OtherNames)
	case event.Container:
		n.or(&ev.Name, OtherNames)
		n.or(&ev.At, "")
	case event.Fail:
		n.or(&ev.Service, OtherNames)
		n.or(&ev.Key, OtherNames)
		n.or(&ev.Site, "")
		n.or(&ev.Entry, OtherNames)
		n.or(&ev.Error, OtherNames)
		n.or(&ev.At, "")
		if len(ev.Path) > maxPath {
			ev.Path = ev.Path[len(ev.Path)-maxPath:]
		}
		for k := range ev.Path {
			n.or(&ev.Path[k], OtherNames)
		}
	}
}

// The fields that hold names, of any kind and of a make.
var (
	named = event.Of(
		event.FKind, event.FName, event.FTrace, event.FBy, event.FImpl, event.FDisposer, event.FModule, event.FAt, event.FWith, event.FEntry,
		event.FHow, event.FSite, event.FService, event.FKey, event.FThread, event.FError, event.FPath, event.FCloser,
	)
	namedByMake = event.Of(event.FBy, event.FImpl, event.FDisposer, event.FModule, event.FAt)
)

// asked bounds a service and key that belong together: what was asked for is known as a whole or not at all.
func (n *names) asked(service, key *string, drop func()) {
	s, ok1 := n.intern(*service)
	k, ok2 := n.intern(*key)
	if *service, *key = s, k; !ok1 || !ok2 {
		*service, *key = "", ""
		drop()
	}
}
