package ingest

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// Recordings are deleted by how long ago they were last written, as this service's clock had it. A clock that leaps would
// make everything old at once, so a leap holds deletion until an administrator confirms the clock, or it has gone back.

// Retention is whether old recordings are deleted.
type Retention struct {
	Held bool
	Why  string // in a sentence, where it is held
}

// retention is what is known of the clock. It is guarded by Hub.mu.
type retention struct {
	why  string // why deletion is held; "" if it is not
	wall int64  // Unix ns when the clock was last looked at, 0 before
	even int64  // Hub.now then
	off  int64  // ns by which it has leapt since deletion was held
}

const (
	leapOver = time.Minute        // what a clock that is set right may be off between two looks
	awayOver = 7 * 24 * time.Hour // a service that was stopped for longer may have a wrong clock
)

// watchClock compares the clock with the elapsed monotonic time, and notes when it was inspected.
func (h *Hub) watchClock(ctx context.Context) {
	wall, even := time.Now().UnixNano(), h.now()
	h.mu.Lock()
	first := h.retained.wall == 0
	h.mu.Unlock()
	if first {
		seen, err := h.catalog.SeenNS(ctx)
		if err != nil {
			h.log.Error("read when the service last worked", "error", err)
			seen = 0
		}
		h.looked(wall, even, seen)
	} else {
		h.looked(wall, even, 0)
	}
	if err := h.catalog.Seen(ctx, wall); err != nil && ctx.Err() == nil {
		h.log.Error("note that the service works", "error", err)
	}
}

// looked notes what the clock said after so much time; seen is when a service worked here before this one began, 0 where
// that is not known.
func (h *Hub) looked(wall, even, seen int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := &h.retained
	leap := int64(0)
	why := ""
	switch {
	case r.wall != 0:
		if leap = (wall - r.wall) - (even - r.even); leap > int64(leapOver) || leap < -int64(leapOver) {
			why = fmt.Sprintf("the clock has leapt by %s", time.Duration(leap).Round(time.Second))
		} else {
			leap = 0
		}
	case seen != 0 && wall-seen > int64(awayOver):
		leap = wall - seen
		why = fmt.Sprintf("the clock is %s ahead of when a service last worked on this data folder", time.Duration(leap).Round(time.Hour))
	case seen != 0 && seen-wall > int64(leapOver):
		h.log.Warn("the clock is behind when a service last worked on this data folder", "by", time.Duration(seen-wall).Round(time.Second))
	}
	r.wall, r.even = wall, even
	if r.why != "" || why != "" {
		r.off += leap
	}
	switch {
	case r.why != "" && r.off <= int64(leapOver):
		h.log.Warn("the clock is as it was; old recordings are deleted again")
		r.why, r.off = "", 0
	case r.why == "" && why != "" && leap > 0:
		r.why = why
		h.log.Warn("no recordings are deleted until an administrator confirms the clock ('keenlantern retention resume')", "why", why)
	case why != "":
		h.log.Warn("the clock was set", "by", time.Duration(leap).Round(time.Second))
		if r.why == "" {
			r.off = 0
		}
	}
}

// Retention returns whether old recordings are deleted, or why not.
func (h *Hub) Retention() Retention {
	h.mu.Lock()
	defer h.mu.Unlock()
	return Retention{Held: h.retained.why != "", Why: h.retained.why}
}

// RetentionOfAll returns the same of all services that share the log: where one holds it, it is held.
func (h *Hub) RetentionOfAll(ctx context.Context) Retention {
	r := h.Retention()
	if h.shared == nil || r.Held {
		return r
	}
	for _, answer := range h.shared.AskAll(ctx, askClock, []byte("{}")) {
		var theirs Retention
		if json.Unmarshal(answer, &theirs) == nil && theirs.Held {
			return theirs
		}
	}
	return r
}

// ResumeRetention says that the clock is right, of all services that share the log: old recordings are deleted from now on.
func (h *Hub) ResumeRetention(ctx context.Context) {
	h.resumeRetention()
	if h.shared != nil {
		h.shared.AskAll(ctx, askRight, []byte("{}"))
	}
}

func (h *Hub) resumeRetention() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.retained.why, h.retained.off = "", 0
}
