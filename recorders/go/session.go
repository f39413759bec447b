package record

import (
	"bytes"
	"errors"
	"maps"
	"math"
	"os"
	"runtime"
	"slices"
	"time"

	"keenlantern.example/record/event"
)

// Setting is whether and how a Recorder records.
type Setting struct {
	On    bool
	Share float64       // of the scopes that are recorded, over 0 up to 1; 0: all
	For   time.Duration // recording ends after it; 0: it does not
	Bytes int64         // recording ends after so many bytes of lines; 0: it does not
}

func (s Setting) check() error {
	if math.IsNaN(s.Share) || s.Share < 0 || s.Share > 1 {
		return errors.New("a Share is from 0 to 1")
	}
	if s.For < 0 || s.Bytes < 0 {
		return errors.New("neither For nor Bytes is below 0")
	}
	return nil
}

func (s Setting) on() Setting {
	s.On = true
	return s
}

// session is one stream: from being switched on to being switched off.
type session struct {
	start      time.Time
	stream     string
	share      float64 // 1: all
	weight     int64
	limit      limits
	firstScope ScopeID // scopes before it belong to no session, or to an earlier one
	firstInst  InstID
	told       map[InstID]struct{} // older instances that this stream knows
	scopes     map[ScopeID]bool    // older ones that it knows; guarded by Recorder.setup

	setting Setting
	bytes   int64 // of lines; guarded by Recorder.encode

	sent    int64 // batches accepted; the sender's own
	refused bool
}

// over reports whether the session has reached one of its limits.
func (s *session) over() bool {
	return s != nil && (s.setting.For > 0 && time.Since(s.start) > s.setting.For || s.setting.Bytes > 0 && s.bytes >= s.setting.Bytes)
}

// State returns how the recorder records at the moment.
func (r *Recorder) State() Setting {
	if r == nil {
		return Setting{}
	}
	if s := r.session.Load(); s != nil {
		return s.setting
	}
	return Setting{}
}

// Set switches recording on or off, or changes how it is done. Switching on begins a new stream, which begins with
// what is registered and what is alive and outlives scopes; scopes that are open already are left out. It returns when
// that is done. A wrong setting changes nothing.
func (r *Recorder) Set(to Setting) {
	if r == nil || to.check() != nil {
		return
	}
	r.encode.Lock()
	defer r.encode.Unlock()
	r.set(to, event.SwitchedOff)
}

// set is Set for a caller that holds encode.
func (r *Recorder) set(to Setting, why string) {
	now := r.session.Load()
	if r.isClosed() || !to.On && now == nil || now != nil && now.setting == to {
		return
	}
	r.setup.Lock()
	defer r.setup.Unlock()
	var next *session
	if to.On {
		next = &session{start: time.Now(), stream: newUUID(), share: 1, weight: 1, limit: r.limit(), told: map[InstID]struct{}{}, setting: to}
		if to.Share > 0 {
			next.share, next.weight = to.Share, int64(math.Round(1/to.Share))
		}
		for id := range r.kept {
			next.told[id] = struct{}{}
		}
	}
	t := r.take(func() {
		if next != nil {
			next.firstScope, next.firstInst = ScopeID(r.scopes.Load()+1), InstID(r.insts.Load()+1)
		}
		r.session.Store(next)
	})
	r.write(&t)
	if now != nil {
		if next != nil {
			why = event.GoesOn
		}
		r.bye(now, why)
	}
	r.of = next
	if next != nil {
		r.begin(next)
	}
}

// bye ends a session's stream. It is always written: it is small, and without it all that is open would be unknown.
func (r *Recorder) bye(s *session, why string) {
	r.tellGap(time.Since(s.start).Nanoseconds())
	e := &event.Event{Kind: event.Bye, T: time.Since(s.start).Nanoseconds()}
	text(e, event.FWhy, &e.Why, why)
	r.batch = event.AppendLine(r.batch, e)
	r.count(1, 0)
	r.cut()
}

// begin writes the hello of a session, and what it has to know of before. The caller holds encode and setup.
func (r *Recorder) begin(s *session) {
	room := max(r.room(), r.most.lines/4)
	host, _ := os.Hostname()
	e := &event.Event{
		Kind: event.Hello, Format: event.Format, App: r.cfg.App, Stream: s.stream,
		Start: s.start.UTC().Format("2006-01-02T15:04:05.000000000Z07:00"), Language: "go " + runtime.Version(), PID: int64(os.Getpid()),
		Recorder: "keenlantern/record",
		Has:      event.Of(event.FFormat, event.FApp, event.FStream, event.FStart, event.FLanguage, event.FPID, event.FRecorder),
	}
	text(e, event.FHost, &e.Host, host)
	text(e, event.FVersion, &e.Version, r.cfg.Version)
	text(e, event.FEnvironment, &e.Environment, r.cfg.Environment)
	if len(r.cfg.Labels) > 0 {
		e.Labels = r.cfg.Labels
		e.Has.Set(event.FLabels)
	}
	if r.cfg.Sees != nil {
		e.Sees = r.cfg.Sees
		e.Has.Set(event.FSees)
	}
	r.put(e, &room)
	for line := range bytes.Lines(r.told) {
		r.putLine(line, &room)
	}
	r.gap += r.untold
	start := s.start.UnixNano()
	ids := slices.Sorted(maps.Keys(r.kept))
	s.scopes = map[ScopeID]bool{}
	var closed []*event.Event
	for _, id := range ids {
		k := r.kept[id]
		if in := k.in; in != nil && !s.scopes[in.id] {
			s.scopes[in.id] = true
			r.put(in.open(start), &room)
			if in.closed != 0 {
				closed = append(closed, &event.Event{Kind: event.Close, Scope: in.id, T: in.closed - start, Has: event.Of(event.FScope)})
			}
		}
		r.put(k.event(id, s), &room)
	}
	for _, id := range ids {
		k := r.kept[id]
		if e := k.ended(id, start); e != nil {
			r.put(e, &room)
		}
	}
	for _, e := range closed {
		r.put(e, &room)
	}
}

// knows reports whether an instance belongs to what the session's stream knows.
func (s *session) knows(inst InstID) bool {
	if inst >= s.firstInst {
		return true
	}
	_, ok := s.told[inst]
	return ok
}

// in reports whether something that happens in a scope is recorded in session s, and counts it where it would have been.
func (r *Recorder) in(s *session, scope ScopeID) bool {
	if scope == 0 || scope >= s.firstScope && scope < Unrecorded {
		return true
	}
	if scope == dropped {
		r.skipped.Add(1)
		return false
	}
	_, root := r.roots.Load(scope)
	return root
}

// tell notes a rare event in full, and keeps it for the sessions to come. The caller holds setup.
func (r *Recorder) tell(e *event.Event) {
	line := event.AppendLine(nil, e)
	if len(line) <= maxLine && r.remember(int64(len(line))) {
		r.told = append(r.told, line...)
	} else {
		r.untold++
	}
	if s := r.session.Load(); s != nil {
		r.add(s, &note{ev: e}, nil)
	}
}
