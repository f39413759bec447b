package record

import (
	"unsafe"

	"keenlantern.example/record/event"
)

// Noted returns how many notes wait to be written down, for tests.
func (r *Recorder) Noted() (n int) {
	for k := range r.shards {
		s := &r.shards[k]
		s.mu.Lock()
		n += len(s.uses) + len(s.rest)
		s.mu.Unlock()
	}
	return n
}

// Held returns the capacity in bytes of all buffers of notes, lines and batches.
func (r *Recorder) Held() (n int) {
	r.encode.Lock()
	defer r.encode.Unlock()
	for _, list := range [][]shard{r.shards, r.spare} {
		for k := range list {
			s := &list[k]
			s.mu.Lock()
			n += cap(s.uses)*int(unsafe.Sizeof(use{})) + cap(s.rest)*int(unsafe.Sizeof(note{})) + cap(s.with)*int(unsafe.Sizeof(event.With{})) + s.text
			s.mu.Unlock()
		}
	}
	n += cap(r.batch)
	r.mu.Lock()
	defer r.mu.Unlock()
	n += cap(r.queue) * int(unsafe.Sizeof(queued{}))
	for _, q := range r.queue {
		n += cap(q.text)
	}
	return n
}
