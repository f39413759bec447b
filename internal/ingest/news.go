package ingest

import "sync"

// Listener hears which recordings have changed. However many changes there are between two looks, each recording is
// named once, so that a slow listener costs no memory.
type Listener struct {
	wake    chan struct{}
	mu      sync.Mutex
	changed map[string]struct{}
}

// Listen returns a Listener; the caller ends it with Ignore.
func (h *Hub) Listen() *Listener {
	l := &Listener{wake: make(chan struct{}, 1), changed: map[string]struct{}{}}
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed {
		close(l.wake)
		return l
	}
	h.news[l] = struct{}{}
	return l
}

// Ignore ends a Listener.
func (h *Hub) Ignore(l *Listener) {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.news, l)
}

// Wake receives when something has changed, and is closed when the hub is.
func (l *Listener) Wake() <-chan struct{} { return l.wake }

// Changed returns the recordings that have changed since the last call.
func (l *Listener) Changed() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	list := make([]string, 0, len(l.changed))
	for id := range l.changed {
		list = append(list, id)
	}
	clear(l.changed)
	return list
}

// Version returns a number that grows whenever something of a recording has changed.
func (h *Hub) Version(recording string) uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.versions[recording]
}

// tell notifies all listeners, at other services too, that a recording has changed.
func (h *Hub) tell(recording string) {
	h.hear(recording)
	if h.shared != nil {
		h.shared.Tell(recording)
	}
}

// hear notifies the listeners of this service.
func (h *Hub) hear(recording string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.versions[recording]++
	for l := range h.news {
		l.mu.Lock()
		l.changed[recording] = struct{}{}
		l.mu.Unlock()
		select {
		case l.wake <- struct{}{}:
		default:
		}
	}
}
