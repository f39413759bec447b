package record

import (
	"time"
	"unsafe"

	"keenlantern.example/record/event"
)

// maxLine is what a service reads of one line; a longer one is dropped and counted rather than refused there.
const maxLine = 1 << 20

// draw turns notes into lines, and lines into batches, until the recorder is closed.
func (r *Recorder) draw() {
	defer close(r.drawn)
	tick := time.NewTicker(r.cfg.FlushWait)
	defer tick.Stop()
	for {
		inTime := false
		select {
		case <-tick.C:
			inTime = true
		case <-r.wake:
		case <-r.stop:
			return // Close has drawn the rest
		}
		r.encode.Lock()
		if r.drawOnce(inTime) {
			r.set(Setting{}, event.LimitReached)
		}
		r.encode.Unlock()
	}
}

// drawOnce turns what is noted into lines, and reports whether the session has reached one of its limits. The caller holds
// encode.
func (r *Recorder) drawOnce(flush bool) (over bool) {
	s := r.session.Load()
	// While there is no room, notes wait where they are, and what does not fit there is dropped there.
	if r.room() < r.most.lines/4 {
		r.crowded.Store(true)
		return s.over()
	}
	t := r.take(nil)
	r.write(&t)
	if flush || len(r.batch) >= r.cfg.BatchSize {
		r.cut()
	}
	r.crowded.Store(t.overflow || r.room() < r.most.lines/2)
	return s.over()
}

// room returns how many bytes of lines there is memory for, beside the notes.
func (r *Recorder) room() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.most.lines - r.held - cap(r.batch)
}

// write appends lines for what was taken, and before them a gap for what was lost. The caller holds encode.
func (r *Recorder) write(t *taken) {
	r.gap += t.lost
	r.mu.Lock()
	r.totals.Lost += t.lost
	r.mu.Unlock()
	room := r.room()
	first := true
	t.each(func(u *use, n *note, with []event.With) {
		e := &r.ev
		switch {
		case u != nil:
			e.Reset()
			u.fill(e)
		case n.ev != nil:
			n.ev.T = n.t
			e = n.ev
		default:
			e.Reset()
			n.fill(e, with)
		}
		if first {
			first = false
			r.tellGap(e.T)
		}
		r.put(e, &room)
	})
	// While memory is short, a gap waits for something to stand beside.
	if first && r.of != nil && r.room() > r.most.lines/2 {
		r.tellGap(time.Since(r.of.start).Nanoseconds())
	}
}

// tellGap writes what was lost since the last one.
func (r *Recorder) tellGap(t int64) {
	if r.gap == 0 || r.of == nil {
		return
	}
	gap := event.Event{Kind: event.Gap, T: t, Lost: r.gap, Why: "no memory left", Has: event.Of(event.FLost, event.FWhy)}
	r.gap = 0
	r.batch = event.AppendLine(r.batch, &gap)
	r.count(1, 0)
}

// put appends a line if there is room for it. The caller holds encode.
func (r *Recorder) put(e *event.Event, room *int) {
	before := len(r.batch)
	r.batch = event.AppendLine(r.batch, e)
	r.putBatch(before, room)
}

// putLine is put for a line that is there already.
func (r *Recorder) putLine(line []byte, room *int) {
	before := len(r.batch)
	r.batch = append(r.batch, line...)
	r.putBatch(before, room)
}

// putBatch keeps the line that begins at before, if there is room for it.
func (r *Recorder) putBatch(before int, room *int) {
	size := len(r.batch) - before
	if size > *room || size > maxLine {
		r.batch = r.batch[:before]
		r.gap++
		r.count(0, 1)
		return
	}
	*room -= size
	r.of.bytes += int64(size)
	r.count(1, 0)
	if len(r.batch) >= r.cfg.BatchSize {
		r.cut()
	}
}

func (r *Recorder) count(events, lost int64) {
	r.mu.Lock()
	r.totals.Events += events
	r.totals.Lost += lost
	r.mu.Unlock()
}

// cut makes a batch of the lines so far. The caller holds encode.
func (r *Recorder) cut() {
	if len(r.batch) == 0 {
		return
	}
	// A queued batch takes no more memory than it has bytes: a mostly empty buffer is copied and reused.
	text, left := r.batch, []byte(nil)
	if len(text) < cap(text)/4*3 {
		text, left = append(make([]byte, 0, len(text)), text...), text[:0]
	}
	r.mu.Lock()
	r.queue = append(r.queue, queued{r.of, text})
	r.held += queuedCost(text)
	r.totals.Bytes += int64(len(text))
	r.mu.Unlock()
	if r.batch = left; cap(left) > 2*r.cfg.BatchSize {
		r.batch = nil
	}
	select {
	case r.ready <- struct{}{}:
	default:
	}
}

// queuedCost is how many bytes a batch takes while it waits.
func queuedCost(text []byte) int { return len(text) + int(unsafe.Sizeof(queued{})) }
