package record

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"sync"
)

// NotRegistered stands for a service or key that is asked for and not registered, where it is not written.
const NotRegistered = "(not registered)"

// maxUnregistered is how many different services and keys that are not registered are written: they may come from requests, and so
// be data without bound.
const maxUnregistered = 256

// unregistered are the services and keys that were asked for and are not registered.
type unregistered struct {
	hide bool // all of them

	mu   sync.Mutex
	seen map[uint64]struct{} // hashes: a name may be of any length
}

// name returns what is written of a service and key that is not registered. Of one with a key, the key alone may be data.
func (u *unregistered) name(service, key string) (string, string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	h := fnv.New64a()
	_, _ = io.WriteString(h, service+"\x00"+key) // never fails
	at := h.Sum64()
	if _, known := u.seen[at]; !u.hide && (known || len(u.seen) < maxUnregistered) {
		if u.seen == nil {
			u.seen = map[uint64]struct{}{}
		}
		u.seen[at] = struct{}{}
		return service, key
	}
	if key != "" {
		return service, NotRegistered
	}
	return NotRegistered, ""
}

// classOf returns the type of an error. One that only adds words to another is left out, as errors.New and fmt.Errorf make them.
func classOf(err error) string {
	for range maxWrapped {
		class := fmt.Sprintf("%T", err)
		inner := errors.Unwrap(err)
		if inner == nil || class != "*fmt.wrapError" {
			return class
		}
		err = inner
	}
	return fmt.Sprintf("%T", err)
}

// maxWrapped bounds how many errors, one in the other, are unwrapped.
const maxWrapped = 32
