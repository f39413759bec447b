package jetstream

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/nats-io/nats.go"

	"keenlantern.example/internal/store"
)

// serviceRow is what a service says of itself. It vanishes where it is not said again.
type serviceRow struct {
	Run        string   `json:"run"` // of its process
	Address    string   `json:"address,omitempty"`
	Version    string   `json:"version,omitempty"`
	Key        string   `json:"key,omitempty"`
	LagBatches int64    `json:"lag_batches,omitempty"`
	LagMS      int64    `json:"lag_ms,omitempty"`
	TakenOver  int64    `json:"taken_over,omitempty"`
	StartedNS  int64    `json:"started_ns,omitempty"`
	Streams    int      `json:"streams,omitempty"`
	Loaded     []string `json:"loaded,omitempty"`  // recordings of which a stream is in memory
	Running    []string `json:"running,omitempty"` // those that are being written
	Said       int64    `json:"said"`              // how often
}

func parseService(_ string, value []byte) any {
	r := &serviceRow{}
	if json.Unmarshal(value, r) != nil {
		return nil
	}
	return r
}

func serviceKey(id string) string { return "service." + id }

// maxSaid bounds how many recordings a service says that it has in memory.
const maxSaid = 5000

// sayEvery is how soon it is said that a service has begun or ended to work on a recording.
const sayEvery = 250 * time.Millisecond

// keepSaying says that this service runs, again and again, and at once what it has begun or ended to work on.
func (s *Store) keepSaying() {
	tick := time.NewTicker(sayEvery)
	defer tick.Stop()
	var at time.Time
	last := ""
	for {
		loaded, running := s.worker().Doing()
		slices.Sort(loaded)
		slices.Sort(running)
		if now := fmt.Sprint(loaded, running); now != last || time.Since(at) >= s.cfg.Lease/4 {
			last, at = now, time.Now()
			s.sayRuns(loaded, running)
		}
		select {
		case <-tick.C:
		case <-s.ctx.Done():
			return
		}
	}
}

// sayRuns says that this service runs, and how it is.
func (s *Store) sayRuns(loaded, running []string) {
	ctx, cancel := context.WithTimeout(s.ctx, s.trusted())
	defer cancel()
	row := &serviceRow{Run: s.run, Address: s.cfg.Address, Version: s.cfg.Version, Key: s.key(), StartedNS: s.began.UnixNano()}
	s.parts.mu.Lock()
	row.TakenOver = s.parts.taken
	s.parts.said++
	row.Said = s.parts.said
	s.parts.mu.Unlock()
	batches, since := s.Lag()
	row.LagBatches, row.LagMS = batches, since.Milliseconds()
	row.Loaded, row.Running = loaded, running
	row.Streams = len(row.Loaded)
	if len(row.Loaded) > maxSaid {
		row.Loaded = row.Loaded[:maxSaid]
	}
	if _, err := s.services.put(ctx, serviceKey(s.id), pack(row), row); err != nil && s.ctx.Err() == nil {
		s.log.Warn("this service cannot say that it runs", "error", err)
	}
	s.keepJoining(ctx, row.Running)
}

// fresh reports whether a service's row is of one that runs.
func (s *Store) fresh(r row) bool { return time.Since(r.at) <= s.cfg.Lease*5/4 }

// running lists the services that run, in their order.
func (s *Store) running() (list []string) {
	s.services.each(serviceKey(""), func(key string, r row) {
		if s.fresh(r) {
			list = append(list, strings.TrimPrefix(key, serviceKey("")))
		}
	})
	slices.Sort(list)
	return list
}

// process names this service's process.
func (s *Store) process() string { return s.id + "/" + s.run }

// runs reports whether a process of a service runs, as far as that can be known: this one may have begun a moment ago.
func (s *Store) runs(process string) bool {
	if process == s.process() || s.since() < 2*s.cfg.Lease {
		return true
	}
	id, run, _ := strings.Cut(process, "/")
	r, ok := s.services.get(serviceKey(id))
	row, read := r.read.(*serviceRow)
	return ok && read && s.fresh(r) && row.Run == run
}

// First reports whether what is done once for all services is this one's to do: it holds the first partition.
func (s *Store) First() bool { return s.holding(0) != nil }

// Whose returns which service works on a live stream.
func (s *Store) Whose(stream string) (string, error) {
	n := s.partition(tokenOf(stream))
	who, ready := s.worksOn(n)
	switch {
	case who == "":
		return "", store.ErrTakingOver
	case !ready:
		return who, store.ErrTakingOver
	case who == s.id:
		return "", nil
	}
	return who, nil
}

// worksOn is owner, but for who has a lease and says no more that it runs: it answers nothing.
func (s *Store) worksOn(n int) (service string, ready bool) {
	who, ready := s.owner(n)
	if r, ok := s.services.get(serviceKey(who)); who == "" || !ok || !s.fresh(r) {
		return "", false
	}
	return who, ready
}

// Elsewhere reports whether another service has a stream of a recording in memory, and whether one is being written there.
func (s *Store) Elsewhere(recording string) (loaded, running bool) {
	s.services.each(serviceKey(""), func(key string, r row) {
		if row, ok := r.read.(*serviceRow); ok && key != serviceKey(s.id) && s.fresh(r) {
			loaded = loaded || slices.Contains(row.Loaded, recording)
			running = running || slices.Contains(row.Running, recording)
		}
	})
	return loaded, running
}

// Services returns those that run, and how it is with their partitions.
func (s *Store) Services() store.Services {
	all := store.Services{Log: s.cfg.Name, Partitions: s.cfg.Partitions, List: []store.Service{}}
	works := map[string][]int{}
	for n := range s.cfg.Partitions {
		who, ready := s.worksOn(n)
		switch {
		case who == "":
			all.Free++
			continue
		case !ready:
			all.Reading++
		}
		works[who] = append(works[who], n)
	}
	s.services.each(serviceKey(""), func(key string, r row) {
		row, ok := r.read.(*serviceRow)
		if !ok || !s.fresh(r) {
			return
		}
		one := store.Service{
			ID: strings.TrimPrefix(key, serviceKey("")), Address: row.Address, Version: row.Version, Key: row.Key, Partitions: works[strings.TrimPrefix(key, serviceKey(""))],
			Lag: row.LagBatches, LagFor: time.Duration(row.LagMS) * time.Millisecond, TakenOver: row.TakenOver, Started: time.Unix(0, row.StartedNS), Streams: row.Streams,
		}
		one.This = one.ID == s.id
		all.List = append(all.List, one)
	})
	slices.SortFunc(all.List, func(a, b store.Service) int { return strings.Compare(a.ID, b.ID) })
	return all
}

// joinFor is how long a recording may be joined since a stream of it was last said to be written.
const joinFor = 30 * time.Second

// openRow is a recording that new streams join.
type openRow struct {
	Recording string `json:"recording"`
	Streams   int    `json:"streams"`
	Said      int64  `json:"said"`
}

// openKey finds what streams of an application, version and environment join.
func openKey(app, version, environment string) string {
	return "application." + tokenOf(app+"\x00"+version+"\x00"+environment)
}

// Join returns the recording that a new stream joins.
func (s *Store) Join(ctx context.Context, fresh store.Recording, most int) (rec store.Recording, err error) {
	ctx, cancel := within(ctx)
	defer cancel()
	err = s.open.change(ctx, openKey(fresh.App, fresh.Version, fresh.Environment), func(r row) ([]byte, any, error) {
		var o openRow
		rec = fresh
		if r.value != nil && json.Unmarshal(r.value, &o) == nil && o.Streams < most {
			if row := s.recording(o.Recording); row == nil { // it was begun a moment ago
				rec.ID = o.Recording
			} else if !row.Deleted {
				rec = s.stored(o.Recording, row)
			}
		}
		if rec.ID != o.Recording {
			o = openRow{Recording: rec.ID}
		}
		o.Streams++
		return pack(&o), nil, nil
	})
	if errors.Is(err, errMoved) {
		err = away(err)
	}
	return rec, err
}

// keepJoining says that streams of these recordings are being written, and of no others any more.
func (s *Store) keepJoining(ctx context.Context, recordings []string) {
	s.parts.mu.Lock()
	before := s.parts.going
	now := make(map[string]time.Time, len(recordings))
	for _, id := range recordings {
		now[id] = before[id]
	}
	s.parts.going = now
	s.parts.mu.Unlock()
	for id := range before {
		if _, going := now[id]; !going {
			s.closeOpen(ctx, id)
		}
	}
	for _, id := range recordings {
		s.parts.mu.Lock()
		said := s.parts.going[id]
		s.parts.mu.Unlock()
		if time.Since(said) < joinFor/3 || s.keepOpen(ctx, id) != nil {
			continue
		}
		s.parts.mu.Lock()
		s.parts.going[id] = time.Now()
		s.parts.mu.Unlock()
	}
}

// keepOpen has new streams join a recording for longer.
func (s *Store) keepOpen(ctx context.Context, recording string) error {
	rec := s.recording(recording)
	if rec == nil || rec.Deleted {
		return nil
	}
	return s.open.change(ctx, openKey(rec.App, rec.Version, rec.Environment), func(r row) ([]byte, any, error) {
		o := openRow{Recording: recording}
		s.known.mu.Lock()
		o.Streams = len(s.known.of[recording])
		s.known.mu.Unlock()
		if r.value != nil {
			var have openRow
			if json.Unmarshal(r.value, &have) != nil || have.Recording != recording {
				return nil, nil, nil // a later one is joined by now
			}
			o = have
		}
		o.Said++
		return pack(&o), nil, nil
	})
}

// closeOpen stops streams from joining a recording that has ended.
func (s *Store) closeOpen(ctx context.Context, recording string) {
	rec := s.recording(recording)
	if _, running := s.Elsewhere(recording); running || rec == nil {
		return
	}
	key := openKey(rec.App, rec.Version, rec.Environment)
	if r, ok := s.open.get(key); ok {
		var have openRow
		if json.Unmarshal(r.value, &have) == nil && have.Recording == recording {
			_ = s.open.drop(ctx, key, r.rev) // a stream has joined it since, or it expires
		}
	}
}

// peers are how services ask each other.
type peers struct {
	kinds map[string]func(ctx context.Context, question []byte) ([]byte, error)
	told  chan string
}

// What is asked, and what comes back.
const (
	hKind  = "Lantern-Kind"
	hError = "Lantern-Error"
	hMore  = "Lantern-More" // on all parts of an answer but the last
)

func (s *Store) askSubject(service string) string { return s.cfg.Name + ".ask." + service }

// tellEvery is the shortest interval between notifications of changes.
const tellEvery = 250 * time.Millisecond

// answerOthers listens to the other services.
func (s *Store) answerOthers() error {
	s.peers.told = make(chan string, 1024)
	if _, err := s.conn.Subscribe(s.askSubject(s.id), s.answer); err != nil {
		return fmt.Errorf("listen to the other services: %w", err)
	}
	_, err := s.conn.Subscribe(s.cfg.Name+".news", func(m *nats.Msg) {
		var list []string
		if m.Header.Get(hKind) == s.id || json.Unmarshal(m.Data, &list) != nil {
			return
		}
		if worker := s.worker(); worker != nil {
			for _, id := range list {
				worker.Heard(id)
			}
		}
	})
	if err != nil {
		return fmt.Errorf("listen to the other services: %w", err)
	}
	s.watch(keyRecording, s.heardHere)
	s.watch(keyDerived, s.heardHere)
	s.begin(s.tellOthers)
	return nil
}

// heardHere passes on that a row of a recording has changed.
func (s *Store) heardHere(recording string) {
	if recording == "" {
		return
	}
	if worker := s.worker(); worker != nil {
		worker.Heard(recording)
	}
}

// Tell notifies all peers that a recording has changed, a few times a second at most.
func (s *Store) Tell(recording string) {
	select {
	case s.peers.told <- recording:
	default: // they hear of it when it is stored
	}
}

func (s *Store) tellOthers() {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	changed := map[string]struct{}{}
	for {
		select {
		case id := <-s.peers.told:
			changed[id] = struct{}{}
		case <-tick.C:
			if len(changed) == 0 {
				continue
			}
			list := make([]string, 0, len(changed))
			for id := range changed {
				list = append(list, id)
			}
			clear(changed)
			for part := range slices.Chunk(list, 1000) {
				m := nats.NewMsg(s.cfg.Name + ".news")
				m.Header.Set(hKind, s.id)
				m.Data = pack(part)
				_ = s.conn.PublishMsg(m) // without a connection they hear of it later
			}
		case <-s.ctx.Done():
			return
		}
	}
}

// Answer has questions of a kind answered by f. It is called before Work.
func (s *Store) Answer(kind string, f func(ctx context.Context, question []byte) ([]byte, error)) {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	if s.peers.kinds == nil {
		s.peers.kinds = map[string]func(context.Context, []byte) ([]byte, error){}
	}
	s.peers.kinds[kind] = f
}

// answer answers another service.
func (s *Store) answer(m *nats.Msg) {
	s.parts.mu.Lock()
	f := s.peers.kinds[m.Header.Get(hKind)]
	s.parts.mu.Unlock()
	s.begin(func() {
		ctx, cancel := within(s.ctx)
		defer cancel()
		var body []byte
		err := errors.New("this version does not know that question")
		if f != nil {
			body, err = f(ctx, m.Data)
		}
		reply := nats.NewMsg(m.Reply)
		if err != nil {
			reply.Header.Set(hError, strings.Map(func(r rune) rune {
				if r < ' ' {
					return ' '
				}
				return r
			}, err.Error()))
			_ = s.conn.PublishMsg(reply) // the requester asks again
			return
		}
		packed := s.zip.EncodeAll(body, nil)
		for len(packed) > s.part {
			more := nats.NewMsg(m.Reply)
			more.Header.Set(hMore, "1")
			more.Data = packed[:s.part]
			packed = packed[s.part:]
			if s.conn.PublishMsg(more) != nil {
				return
			}
		}
		reply.Data = packed
		_ = s.conn.PublishMsg(reply)
	})
}

// askFor is how long another service may take to answer.
const askFor = 3 * time.Second

// maxAnswer bounds an answer, in bytes as sent.
const maxAnswer = 256 << 20

// Ask asks another service.
func (s *Store) Ask(ctx context.Context, service, kind string, question []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, askFor)
	defer cancel()
	inbox := s.conn.NewInbox()
	sub, err := s.conn.SubscribeSync(inbox)
	if err == nil {
		err = sub.SetPendingLimits(-1, maxAnswer)
	}
	if err != nil {
		return nil, away(err)
	}
	defer func() { _ = sub.Unsubscribe() }() // the connection may be gone
	ask := nats.NewMsg(s.askSubject(service))
	ask.Reply = inbox
	ask.Header.Set(hKind, kind)
	ask.Data = question
	if err := s.conn.PublishMsg(ask); err != nil {
		return nil, away(err)
	}
	var packed []byte
	for {
		m, err := sub.NextMsgWithContext(ctx)
		if err == nil && m.Header.Get("Status") == "503" {
			err = errors.New("it is not there")
		}
		if err != nil {
			return nil, fmt.Errorf("ask service %s: %w (%w)", service, store.ErrTakingOver, err)
		}
		if text := m.Header.Get(hError); text != "" {
			return nil, fmt.Errorf("service %s answers: %s", service, text)
		}
		if packed = append(packed, m.Data...); len(packed) > maxAnswer {
			return nil, fmt.Errorf("service %s answers with more than %d bytes", service, maxAnswer)
		}
		if m.Header.Get(hMore) == "" {
			break
		}
	}
	body, err := s.unzip.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpack the answer of service %s: %w", service, err)
	}
	return body, nil
}

// AskAll asks all others that run at once.
func (s *Store) AskAll(ctx context.Context, kind string, question []byte) map[string][]byte {
	type answer struct {
		id   string
		body []byte
		err  error
	}
	answers := make(chan answer)
	n := 0
	for _, id := range s.running() {
		if id == s.id {
			continue
		}
		n++
		go func() {
			body, err := s.Ask(ctx, id, kind, question)
			answers <- answer{id, body, err}
		}()
	}
	all := map[string][]byte{}
	for range n {
		if a := <-answers; a.err == nil {
			all[a.id] = a.body
		}
	}
	return all
}
