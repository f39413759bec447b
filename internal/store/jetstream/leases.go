package jetstream

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/store"
)

// leaseRow is who works on a partition. It expires unless it is renewed.
type leaseRow struct {
	Service string `json:"service"`
	Ready   bool   `json:"ready,omitempty"` // all that was there when it was taken has been analysed
	Takes   int64  `json:"takes,omitempty"` // how often it was renewed: a row that says the same twice would be one
}

func parseLease(_ string, value []byte) any {
	l := &leaseRow{}
	if json.Unmarshal(value, l) != nil {
		return nil
	}
	return l
}

// partition is one that this service holds.
type partition struct {
	n     int
	epoch uint64        // the revision with which it was taken
	lost  chan struct{} // closed when it is held no more
	going chan struct{} // closed when it is being handed over
	done  chan struct{} // closed when what worked on it has ended; nil where nothing does

	// Guarded by partitions.mu.
	rev   uint64
	until time.Time // it counts as held until then unless it is renewed, which is before the servers release it
	takes int64
	ready bool
	lag   lag
	leave bool // it is being handed over
}

// lag is how far what is analysed is behind what is stored.
type lag struct {
	batches int64
	since   time.Time // when the first of them was stored, by the servers' clock
}

// partitions are those that this service holds.
type partitions struct {
	mu     sync.Mutex
	held   map[int]*partition
	worker store.Worker         // nil: there are no partitions; streams are leased one by one
	taken  int64                // since the start
	said   int64                // how often this service has said that it runs
	going  map[string]time.Time // recordings that it has said to be written, and when
	wake   chan struct{}
}

func (p *partitions) init() {
	p.held, p.wake = map[int]*partition{}, make(chan struct{}, 1)
}

// worker returns the partitions' worker, nil without partitions.
func (s *Store) worker() store.Worker {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	return s.parts.worker
}

func (p *partitions) working() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.worker != nil
}

// held are the streams that this service works on, by name.
type held struct {
	mu   sync.Mutex
	list map[string]*lease
}

type lease struct {
	of     *held
	stream string
	lost   <-chan struct{}
}

// Lost is closed when the partition's lease has gone.
func (l *lease) Lost() <-chan struct{} { return l.lost }

// Release gives the stream back; the partition stays with this service.
func (l *lease) Release() {
	l.of.mu.Lock()
	defer l.of.mu.Unlock()
	if l.of.list[l.stream] == l {
		delete(l.of.list, l.stream)
	}
}

// Hold takes the lease of a stream, which is that of its partition.
func (s *Store) Hold(ctx context.Context, stream string) (store.Lease, error) {
	n := s.partition(tokenOf(stream))
	p := s.holding(n)
	if p == nil && !s.parts.working() {
		var err error
		if p, err = s.takePartition(ctx, n); err != nil {
			return nil, err
		}
	}
	if p == nil {
		return nil, store.ErrHeld
	}
	s.held.mu.Lock()
	defer s.held.mu.Unlock()
	if s.held.list[stream] != nil {
		return nil, store.ErrHeld
	}
	if s.held.list == nil {
		s.held.list = map[string]*lease{}
	}
	l := &lease{&s.held, stream, p.lost}
	s.held.list[stream] = l
	return l, nil
}

// holding returns a partition that this service holds now, nil where it does not.
func (s *Store) holding(n int) *partition {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	p := s.parts.held[n]
	if p == nil || time.Now().After(p.until) {
		return nil
	}
	return p
}

// holds reports whether this service works on a stream's partition.
func (s *Store) holds(token string) bool { return s.holding(s.partition(token)) != nil }

// mayWrite returns the epoch with which this service may store what is derived of a stream. store.ErrHeld says that another one
// works on it. Files have no lease: who reads them, or reanalyses them, is one service at a time.
func (s *Store) mayWrite(token string, row *streamRow) (uint64, error) {
	if !row.Live {
		return 0, nil
	}
	if p := s.holding(s.partition(token)); p != nil {
		return p.epoch, nil
	}
	if s.parts.working() {
		return 0, store.ErrHeld
	}
	p, err := s.takePartition(s.ctx, s.partition(token))
	if err != nil {
		return 0, err
	}
	return p.epoch, nil
}

func leaseKey(n int) string { return "partition." + strconv.Itoa(n) }

// trusted is how long a lease counts as held since it was last asked for. The servers keep it longer, so that what is under way when
// it ends here still arrives before another service has it.
func (s *Store) trusted() time.Duration { return s.cfg.Lease * 2 / 3 }

// takePartition takes the lease of a partition that is free, store.ErrHeld if it is not.
func (s *Store) takePartition(ctx context.Context, n int) (*partition, error) {
	ctx, cancel := within(ctx)
	defer cancel()
	began := time.Now()
	l := &leaseRow{Service: s.id}
	r, _ := s.leases.get(leaseKey(n))
	was := uint64(0)
	if have, ok := r.read.(*leaseRow); ok && have.Service == s.id {
		was = r.rev // of this very service, before it was started again: the data folder's lock ensures that there is no other
	}
	rev, err := s.leases.update(ctx, leaseKey(n), pack(l), l, was)
	if errors.Is(err, errMoved) {
		return nil, store.ErrHeld
	}
	if err != nil {
		return nil, err
	}
	p := &partition{n: n, epoch: rev, rev: rev, lost: make(chan struct{}), going: make(chan struct{}), until: began.Add(s.trusted())}
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	s.parts.held[n] = p
	return p, nil
}

// keepLeases renews what this service holds, takes and gives back what is not its share, and says that it runs, until the store
// is closed.
func (s *Store) keepLeases() {
	tick := time.NewTicker(max(s.cfg.Lease/6, 50*time.Millisecond))
	defer tick.Stop()
	var renewed time.Time
	for {
		changed := s.leases.wait() // a partition may have become free
		if time.Since(renewed) >= s.cfg.Lease/4 {
			renewed = time.Now()
			s.renew()
		}
		s.expire()
		if s.parts.working() {
			s.balance()
		}
		select {
		case <-tick.C:
		case <-s.parts.wake:
		case <-changed:
			if pause(s.ctx, 1) != nil { // others change with it
				return
			}
		case <-s.ctx.Done():
			return
		}
	}
}

func (s *Store) heldNow() []*partition {
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	return slices.SortedFunc(maps.Values(s.parts.held), func(a, b *partition) int { return cmp.Compare(a.n, b.n) })
}

// renew renews all leases at once.
func (s *Store) renew() {
	ctx, cancel := context.WithTimeout(s.ctx, max(s.cfg.Lease/5, 300*time.Millisecond)) // what is lost is sent again while there is time
	defer cancel()
	s.eachHeld(func(p *partition) { s.renewOne(ctx, p) })
}

// eachHeld calls f for all partitions that this service holds, a few at a time, and waits.
func (s *Store) eachHeld(f func(p *partition)) {
	var all errgroup.Group
	all.SetLimit(16)
	for _, p := range s.heldNow() {
		all.Go(func() error {
			f(p)
			return nil
		})
	}
	_ = all.Wait() // none fails
}

func (s *Store) renewOne(ctx context.Context, p *partition) {
	began := time.Now()
	s.parts.mu.Lock()
	l := &leaseRow{Service: s.id, Ready: p.ready, Takes: p.takes + 1}
	rev := p.rev
	s.parts.mu.Unlock()
	now, err := s.leases.update(ctx, leaseKey(p.n), pack(l), l, rev)
	if errors.Is(err, errMoved) {
		// An answer that got lost leaves a later revision that is still ours.
		if r, ok := s.leases.get(leaseKey(p.n)); ok && r.rev > rev {
			if have, ok := r.read.(*leaseRow); ok && have.Service == s.id {
				now, err = s.leases.update(ctx, leaseKey(p.n), pack(l), l, r.rev)
			}
		}
	}
	s.parts.mu.Lock()
	defer s.parts.mu.Unlock()
	switch {
	case err == nil:
		p.rev, p.takes, p.until = now, l.Takes, began.Add(s.trusted())
	case errors.Is(err, errMoved):
		if r, ok := s.leases.get(leaseKey(p.n)); ok {
			if have, ok := r.read.(*leaseRow); ok && have.Service != s.id {
				p.until = time.Time{} // it is another's
			}
		}
	}
}

// expire releases what could not be renewed.
func (s *Store) expire() {
	for _, p := range s.heldNow() {
		s.parts.mu.Lock()
		over := time.Now().After(p.until)
		if over && s.parts.held[p.n] == p {
			delete(s.parts.held, p.n)
		}
		s.parts.mu.Unlock()
		if over {
			close(p.lost)
			s.log.Warn("a partition was lost: its lease could not be renewed in time", "partition", p.n)
		}
	}
}

// owner returns which service works on a partition, "" where none does, and whether all that it found there has been analysed.
func (s *Store) owner(n int) (service string, ready bool) {
	r, ok := s.leases.get(leaseKey(n))
	l, parsed := r.read.(*leaseRow)
	if !ok || !parsed || time.Since(r.at) > s.cfg.Lease*5/4 { // who is gone renews nothing
		return "", false
	}
	return l.Service, l.Ready
}

// share returns how many partitions this service should have: what there is, divided evenly, in the order of the services' ids.
func (s *Store) share() int {
	ids := s.running()
	at := slices.Index(ids, s.id)
	if at < 0 {
		return 0 // it has not said that it runs yet
	}
	n := s.cfg.Partitions / len(ids)
	if at < s.cfg.Partitions%len(ids) {
		n++
	}
	return n
}

// balance takes free partitions, up to this service's share, and hands over what is above it.
func (s *Store) balance() {
	want := s.share()
	have := s.heldNow()
	staying := 0
	for _, p := range have {
		s.parts.mu.Lock()
		if !p.leave {
			staying++
		}
		s.parts.mu.Unlock()
	}
	for i := len(have) - 1; i >= 0 && staying > want; i-- {
		p := have[i]
		s.parts.mu.Lock()
		going := !p.leave && p.done != nil
		p.leave = p.leave || going
		s.parts.mu.Unlock()
		if going {
			staying--
			close(p.going)
			s.begin(func() { s.handOver(p) })
		}
	}
	// Services begin to look at different places, so that they get in each other's way less.
	start := 0
	for _, c := range s.id {
		start = (start*31 + int(c)) % s.cfg.Partitions
	}
	for i := 0; i < s.cfg.Partitions && staying < want; i++ {
		n := (start + i) % s.cfg.Partitions
		if s.holding(n) != nil {
			continue
		}
		if who, _ := s.owner(n); who != "" && who != s.id {
			continue
		}
		p, err := s.takePartition(s.ctx, n)
		if err != nil {
			if !errors.Is(err, store.ErrHeld) {
				return // the log is away
			}
			continue
		}
		staying++
		s.parts.mu.Lock()
		p.done = make(chan struct{})
		s.parts.taken++
		s.parts.mu.Unlock()
		s.begin(func() { s.workOn(p) })
	}
}

// handOver gives a partition to the next holder: what is known is stored first.
func (s *Store) handOver(p *partition) {
	ctx, cancel := context.WithTimeout(s.ctx, handOverFor)
	defer cancel()
	<-p.done // workOn ends by p.going
	if worker := s.worker(); worker != nil {
		worker.HandOver(ctx, func(stream string) bool { return s.partition(tokenOf(stream)) == p.n })
	}
	s.release(ctx, p)
}

const handOverFor = 10 * time.Second

// release gives a lease back.
func (s *Store) release(ctx context.Context, p *partition) {
	s.parts.mu.Lock()
	mine := s.parts.held[p.n] == p
	if mine {
		delete(s.parts.held, p.n)
	}
	rev := p.rev
	s.parts.mu.Unlock()
	if !mine {
		return
	}
	close(p.lost)
	if err := s.leases.drop(ctx, leaseKey(p.n), rev); err != nil && !errors.Is(err, errMoved) {
		s.log.Warn("a partition could not be given back; it is free when its lease has run out", "partition", p.n, "error", err)
	}
}

// leave gives back all there is, at the end.
func (s *Store) leave() {
	if s.conn == nil || s.leases == nil || s.services == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	s.eachHeld(func(p *partition) { s.release(ctx, p) })
	if s.parts.working() {
		_ = s.services.drop(ctx, serviceKey(s.id), 0) // it vanishes by itself
	}
}
