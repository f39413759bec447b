package jetstream

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

// The errors that a table's callers distinguish.
var (
	errTaken = errors.New("there is a row of this key already")
	errMoved = errors.New("the row was changed by another process")
)

// table is a bucket as this service knows it: all of its rows in memory, followed as they change. What this service writes it
// knows at once, what others write a moment later.
type table struct {
	kv      jetstream.KeyValue
	watcher jetstream.KeyWatcher
	gone    chan struct{} // closed when following has ended

	mu      sync.RWMutex
	rows    map[string]row
	changed chan struct{} // closed and replaced with each change
	heard   func(key string, r row)
}

// row is one value. It is never changed in place.
type row struct {
	value []byte // nil: it was deleted
	rev   uint64
	at    time.Time // when this service heard of it
	read  any       // the value as what it is of, where heard keeps it
}

// present stands for a value that is there and has been read.
var present = []byte{}

// follow reads a bucket and follows it until close. Heard is called with each row, one at a time and before readers see it; it may
// be nil.
func follow(ctx context.Context, kv jetstream.KeyValue, parse func(key string, value []byte) any, heard func(key string, r row)) (*table, error) {
	w, err := kv.WatchAll(context.WithoutCancel(ctx))
	if err != nil {
		return nil, away(err)
	}
	t := &table{kv: kv, watcher: w, gone: make(chan struct{}), rows: map[string]row{}, changed: make(chan struct{}), heard: heard}
	known := make(chan struct{})
	go func() {
		defer close(t.gone)
		for e := range w.Updates() {
			if e == nil {
				close(known)
				continue
			}
			r := row{rev: e.Revision(), at: time.Now()}
			if e.Operation() == jetstream.KeyValuePut {
				r.value = e.Value()
				if r.value == nil {
					r.value = []byte{}
				}
				if parse != nil {
					r.read = parse(e.Key(), r.value)
				}
			}
			t.apply(e.Key(), r)
		}
	}()
	select {
	case <-known:
		return t, nil
	case <-time.After(openFor):
		err = errors.New("its rows did not come")
	case <-ctx.Done():
		err = ctx.Err()
	}
	t.close()
	return nil, fmt.Errorf("read the bucket %s: %w", kv.Bucket(), away(err))
}

func (t *table) close() {
	_ = t.watcher.Stop() // the connection may be gone already
	<-t.gone
}

func (t *table) apply(key string, r row) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if have, known := t.rows[key]; known && have.rev >= r.rev {
		return
	}
	if r.value == nil {
		delete(t.rows, key)
	} else {
		if r.read != nil {
			r.value = present // what was read of it is enough
		}
		t.rows[key] = r
	}
	if t.heard != nil {
		t.heard(key, r)
	}
	close(t.changed)
	t.changed = make(chan struct{})
}

// get returns a row as this service knows it.
func (t *table) get(key string) (row, bool) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	r, ok := t.rows[key]
	return r, ok
}

// each calls f with the rows whose keys begin so.
func (t *table) each(prefix string, f func(key string, r row)) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	for key, r := range t.rows {
		if strings.HasPrefix(key, prefix) {
			f(key, r)
		}
	}
}

// wait returns what is closed at the next change.
func (t *table) wait() <-chan struct{} {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return t.changed
}

// create stores a row that is not there, errTaken where it is.
func (t *table) create(ctx context.Context, key string, value []byte, read any) (uint64, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*answerFor)
	defer cancel()
	rev, err := t.kv.Create(ctx, key, value)
	if wrongRevision(err) {
		return 0, errTaken
	}
	return t.wrote(key, row{value: value, rev: rev, read: read}, err)
}

// update replaces a row as it was at a revision, errMoved where it is another by now. 0 stands for none.
func (t *table) update(ctx context.Context, key string, value []byte, read any, was uint64) (uint64, error) {
	if was == 0 {
		rev, err := t.create(ctx, key, value, read)
		if errors.Is(err, errTaken) {
			err = errMoved
		}
		return rev, err
	}
	ctx, cancel := context.WithTimeout(ctx, 2*answerFor)
	defer cancel()
	rev, err := t.kv.Update(ctx, key, value, was)
	if wrongRevision(err) {
		return 0, errMoved
	}
	return t.wrote(key, row{value: value, rev: rev, read: read}, err)
}

// put stores a row, whatever was there.
func (t *table) put(ctx context.Context, key string, value []byte, read any) (uint64, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*answerFor)
	defer cancel()
	rev, err := t.kv.Put(ctx, key, value)
	return t.wrote(key, row{value: value, rev: rev, read: read}, err)
}

func (t *table) wrote(key string, r row, err error) (uint64, error) {
	if err != nil {
		return 0, away(err)
	}
	r.at = time.Now()
	t.apply(key, r)
	return r.rev, nil
}

// markerFor is how long the mark of a deleted row stays, so that followers of the bucket see it.
const markerFor = time.Hour

// drop deletes a row, if it is there. Where was is not 0, only as it was at that revision.
func (t *table) drop(ctx context.Context, key string, was uint64) error {
	opts := []jetstream.KVDeleteOpt{jetstream.PurgeTTL(markerFor)}
	if was != 0 {
		opts = append(opts, jetstream.LastRevision(was))
	}
	err := t.kv.Purge(ctx, key, opts...)
	if wrongRevision(err) {
		return errMoved
	}
	if err != nil {
		return away(err)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	have, known := t.rows[key]
	if known && (was == 0 || have.rev == was) {
		delete(t.rows, key)
		if t.heard != nil {
			t.heard(key, row{rev: have.rev})
		}
		close(t.changed)
		t.changed = make(chan struct{})
	}
	return nil
}

// moved waits until a row is known at a later revision than one, or for a moment.
func (t *table) moved(ctx context.Context, key string, rev uint64) error {
	late := time.NewTimer(movedFor)
	defer late.Stop()
	for {
		changed := t.wait()
		if r, _ := t.get(key); r.rev > rev || r.rev == 0 && rev != 0 {
			return nil
		}
		select {
		case <-changed:
		case <-late.C:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

const movedFor = 500 * time.Millisecond

// change replaces a row by what next makes of it, until no other process was quicker. Next returns nil for no change.
func (t *table) change(ctx context.Context, key string, next func(r row) (value []byte, read any, err error)) error {
	for range 100 {
		r, _ := t.get(key)
		value, read, err := next(r)
		if err != nil || value == nil {
			return err
		}
		if _, err = t.update(ctx, key, value, read, r.rev); !errors.Is(err, errMoved) {
			return err
		}
		if err := t.moved(ctx, key, r.rev); err != nil {
			return err
		}
	}
	return errMoved
}
