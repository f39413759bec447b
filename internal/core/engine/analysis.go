package engine

import (
	"errors"
	"slices"

	"keenlantern.example/internal/core/derive"
	"keenlantern.example/internal/core/facts"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/ledger"
	"keenlantern.example/internal/core/meter"
	"keenlantern.example/internal/core/order"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/record/event"
)

// Analysis analyses one stream while its lines arrive. It is not safe for use by several goroutines.
type Analysis struct {
	order    *order.Order
	world    *ledger.World
	watchers [ledger.Happenings][ledger.Classes][rules.Conditions][]rules.Watcher
	all      []rules.Watcher
	judges   []rules.Judge
	found    *collector
	tracker  *derive.Tracker
	facts    *facts.Facts
	known    *rules.Shared
	set      *rules.Settings
	health   Health
	finished bool
	apply    func(*event.Event) // s.used, bound once

	meter       *meter.Meter
	line        int64 // that is being looked at
	most        int64 // steps that one line took
	broken      *Broken
	interrupted bool
}

// NewStream returns a Stream that waits for its hello. NewLive returns one that is still being written: some rules then
// use what is usual so far. Set are the thresholds and lists that rules use.
// Full chunks of the log of scopes go to scopes, which may be nil. NewBare returns one that is asked for its Result only:
// it has no State and no log.
func NewStream(set rules.Settings, scopes func(derive.Chunk)) *Analysis {
	s := newStream(set, false)
	s.track(scopes)
	return s
}
func NewLive(set rules.Settings, scopes func(derive.Chunk)) *Analysis {
	s := newStream(set, true)
	s.track(scopes)
	return s
}
func NewBare(set rules.Settings) *Analysis { return newStream(set, false) }

func newStream(set rules.Settings, live bool) *Analysis {
	s := &Analysis{order: order.New(), meter: meter.New(nil)}
	s.world = ledger.New(s.meter, s.changed)
	s.found = newCollector(s.world)
	s.apply = s.used
	s.facts, s.known, s.set = facts.New(s.world), rules.NewShared(), &set
	s.watch(s.facts, facts.Sees, nil, nil)
	for _, run := range rules.Runs {
		s.watch(run.New(&rules.Env{World: s.world, Facts: run.Grant(s.facts), Out: s.found, Known: s.known, Live: live, Set: s.set}), run.Sees, run.Of, run.Under)
	}
	return s
}

func (s *Analysis) track(scopes func(derive.Chunk)) {
	s.tracker = derive.New(s.world, s.facts, scopes)
	s.watch(s.tracker, derive.Sees, nil, nil)
}

// watch has w see changes of some kinds: for some of these, of instances of the lifetimes that of names, and only where what
// under returns holds. Changes without a known lifetime go to all.
func (s *Analysis) watch(w rules.Watcher, sees []ledger.Happening, of map[ledger.Happening][]ledger.Class, under func(ledger.Happening) rules.Condition) {
	s.all = append(s.all, w)
	for _, what := range sees {
		needs := rules.Condition(0)
		if under != nil {
			needs = under(what)
		}
		for class := range ledger.Class(ledger.Classes) {
			if of[what] != nil && class != ledger.Unclassed && !slices.Contains(of[what], class) {
				continue
			}
			for holds := range rules.Condition(rules.Conditions) {
				if holds&needs == needs {
					list := &s.watchers[what][class][holds]
					*list = append(*list, w)
				}
			}
		}
	}
	if j, ok := w.(rules.Judge); ok {
		s.judges = append(s.judges, j)
	}
}

// Begun reports whether the stream's hello has come.
func (s *Analysis) Begun() bool { return !s.world.Stream.Start.IsZero() }

// Ended reports whether the stream's bye has come.
func (s *Analysis) Ended() bool { return s.world.Ended }

// Remember sets how many ended instances are retained, and half as many closed scopes, from now on: ledger.Remembered
// at most. What has been forgotten and is spoken of again counts as unresolved.
func (s *Analysis) Remember(n int) { s.world.Remember = min(n, ledger.Remembered) }

// Put takes the next line.
func (s *Analysis) Put(line reader.Line) {
	s.PutAll([]reader.Line{line})
}

// PutAll takes the next lines.
func (s *Analysis) PutAll(lines []reader.Line) {
	for len(lines) > 0 {
		lines = lines[s.put(lines):]
	}
}

// put takes lines and returns how many: all, or those up to the one that broke the stream.
func (s *Analysis) put(lines []reader.Line) (n int) {
	if s.broken != nil || s.interrupted {
		s.health.Lines += int64(len(lines))
		return len(lines)
	}
	defer s.caught()
	for n = range lines {
		line := &lines[n]
		n++
		s.health.Lines++
		s.line = line.Number
		switch {
		case line.Refused != "":
			s.refuse(line.Number, line.Refused)
		case line.Unknown:
			s.health.UnknownKinds++
		case line.Event.Kind != event.Hello && !s.Begun():
			s.refuse(line.Number, "before any hello: a stream starts with one")
		default:
			s.order.Put(line.Event, s.apply)
		}
	}
	return n
}

// MostWork returns how many steps of work the costliest line took so far.
func (s *Analysis) MostWork() int64 { return s.most }

// Work returns how many steps of work were counted in all.
func (s *Analysis) Work() int64 { return s.meter.Total() }

func (s *Analysis) refuse(line int64, why string) {
	s.health.Refused++
	if len(s.health.Refusals) < maxRefusals {
		s.health.Refusals = append(s.health.Refusals, Refusal{Line: line, Why: why})
	}
}

// used gives an event whose ids are known to the ledger.
func (s *Analysis) used(ev *event.Event) {
	s.meter.Start(lineBudget) // several lines may come out at once
	err := s.world.Apply(ev)
	s.most = max(s.most, s.meter.Used())
	if err == nil {
		s.health.Used++
		return
	}
	if gone := (*ledger.Gone)(nil); errors.As(err, &gone) {
		s.health.Unresolved++
		return
	}
	s.refuse(ev.Line, err.Error())
}

func (s *Analysis) changed(c *ledger.Change) {
	for _, w := range s.watchers[c.What][c.Inst.Class()][s.set.Holding(c, s.known)] {
		w.See(c)
	}
}

// Finish ends the input: what still waits is given up, and rules report what is left.
// Lines may come all the same; they then count as usual.
func (s *Analysis) Finish() {
	if s.broken == nil && !s.interrupted {
		s.flush()
	}
	s.order.GiveUp()
	if s.finished {
		return
	}
	s.finished = true
	if s.broken != nil || s.interrupted {
		return
	}
	s.meter.Start(judgeBudget)
	defer s.caught()
	for _, w := range s.all {
		if f, ok := w.(rules.Finisher); ok {
			f.Finish()
		}
	}
}

// flush takes the lines that wait for a registration, as they are.
func (s *Analysis) flush() {
	defer s.caught()
	s.order.Flush(s.apply)
}

// State returns a copy of what views answer from, as it is now.
func (s *Analysis) State() *derive.State {
	state := s.tryState()
	if s.broken != nil {
		return derive.Nothing(s.world)
	}
	return state
}

func (s *Analysis) tryState() *derive.State {
	if s.tracker == nil {
		panic("engine: a bare stream has no State") // a bug: a State must be tracked to be read
	}
	if s.broken != nil || s.interrupted {
		return nil
	}
	s.meter.Start(judgeBudget)
	defer s.caught()
	return s.tracker.State()
}

// Pending calls f for the scopes that are in no chunk of the log yet.
func (s *Analysis) Pending(f func(derive.Scope)) {
	if !s.finished && s.broken == nil && !s.interrupted && s.tracker != nil {
		s.tracker.Pending(f)
	}
}

// Health returns the stream's health as it is now.
func (s *Analysis) Health() Health {
	h := s.health
	h.Refusals = append([]Refusal{}, s.health.Refusals...)
	h.Unresolved += s.order.Unresolved()
	h.Held = s.order.Held()
	h.Lost = s.world.Lost
	h.CutOff = s.finished && !s.world.Ended
	h.Sampled = 1
	if s.world.ScopeWeight > 0 {
		h.Sampled = float64(s.world.ScopesOpened) / float64(s.world.ScopeWeight)
	}
	h.Silent = s.silent()
	h.NamesOver, h.Flattened, h.Abandoned = s.world.NamesOver(), s.world.Flattened, s.world.Abandoned
	if s.broken != nil {
		h.Held, h.CutOff = 0, false
		h.Unread = h.Lines - h.Used - h.Refused - h.UnknownKinds - h.Unresolved
	}
	return h
}

// silent lists the rules for which this recording lacks the evidence: the recorder does not see it for any of the instances that the rule
// is about.
func (s *Analysis) silent() []string {
	const disposals = ledger.SeesDispose | ledger.SeesDisposeCode
	var all, disposed []ledger.Sight // of each registration, and of each disposable one
	for _, r := range s.world.Registrations() {
		if !r.Known || r.Made == 0 || r.Internal {
			continue
		}
		all = append(all, r.Sees)
		if r.Disposable {
			by := ledger.Sight(ledger.SeesDispose)
			if r.Disposer == "code" || r.Disposer == "" && r.Lifetime == ledger.External {
				by = ledger.SeesDisposeCode
			}
			sees := r.Sees
			if sees&by != 0 {
				sees |= disposals // other disposals do not occur
			} else {
				sees &^= disposals
			}
			disposed = append(disposed, sees)
		}
	}
	if len(all) == 0 {
		all = append(all, s.world.Sees)
	}
	if len(disposed) == 0 {
		// Disposable instances, and their disposers, may be marked by their makes alone.
		sees := s.world.Sees
		if sees&disposals != 0 {
			sees |= disposals
		}
		disposed = append(disposed, sees)
	}
	list := []string{}
	for _, rule := range rules.All {
		of := all
		if rule.Needs&disposals != 0 {
			of = disposed
		}
		if rule.Needs != 0 && !slices.ContainsFunc(of, func(sees ledger.Sight) bool { return rule.Needs&^sees == 0 }) {
			list = append(list, rule.ID)
		}
	}
	return list
}

// Result returns a copy of what is known now.
func (s *Analysis) Result() *Result {
	findings := s.findings() // first: it may break the stream
	st := s.world.Stream
	health := s.Health()
	info := Info{
		App: st.App, Stream: st.Stream, Environment: st.Environment, Version: st.Version, Language: st.Language,
		Host: st.Host, Recorder: st.Recorder, Labels: st.Labels, Start: st.StartText,
		Ended: s.world.Ended, Lasted: s.world.T,
		Figures: Figures{
			Events: health.Used + health.UnknownKinds, Scopes: s.world.ScopesOpened, Instances: s.world.InstancesMade,
			Registrations: int64(len(s.world.Registrations())), Alive: int64(s.world.Alive()),
		},
		Health: health, Broken: s.broken,
	}
	if s.broken != nil {
		findings = []*finding.Finding{}
	}
	// A rule with a finding had its evidence.
	info.Health.Silent = slices.DeleteFunc(info.Health.Silent, func(id string) bool {
		return slices.ContainsFunc(findings, func(f *finding.Finding) bool { return f.Rule == id })
	})
	return &Result{Format: Format, Streams: []Info{info}, Findings: findings}
}

func (s *Analysis) findings() []*finding.Finding {
	if s.broken != nil || s.interrupted {
		return nil
	}
	s.meter.Start(judgeBudget)
	defer s.caught()
	s.found.judge(s.judges)
	return s.found.findings(s.Health())
}
