package ingest

// Room is memory that is held for what is being taken in, and accounted for until Free.
type Room struct {
	hub   *Hub
	bytes int64
}

// Room makes room for so many bytes, and reports whether there is any. A service alone always has room.
func (h *Hub) Room(bytes int64) (*Room, bool) {
	r := &Room{hub: h}
	return r, r.Grow(bytes)
}

// Grow makes it so many bytes in all, and reports whether there is room for that. What there was stays in any case.
func (r *Room) Grow(bytes int64) bool {
	more := bytes - r.bytes
	if more <= 0 {
		return true
	}
	if now := r.hub.waiting.Add(more); now > maxWaiting && now > bytes {
		r.hub.waiting.Add(-more)
		r.hub.stats.busy.Add(1)
		return false
	}
	r.bytes = bytes
	return true
}

// Free gives it back. It may be called more than once.
func (r *Room) Free() {
	r.hub.waiting.Add(-r.bytes)
	r.bytes = 0
}
