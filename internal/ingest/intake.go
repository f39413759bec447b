package ingest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"slices"
	"sync/atomic"
	"time"

	"keenlantern.example/internal/store"
)

// intake stores the batches of one live stream in their order. It is used by one goroutine at a time.
type intake struct {
	hub    *Hub
	of     store.Recording
	stored store.Stream // batches, lines and received change with what is taken; id, recording and name never do
	fresh  atomic.Bool  // nothing of it is stored yet

	latestSums [][sha256.Size]byte // of batches from senders that do not count
	recalled   bool                // latestSums holds those of before a restart
}

// maxSums is how many batches of a sender that does not count are known again.
const maxSums = 64

// take stores a batch, and reports whether it is a new one.
func (in *intake) take(ctx context.Context, n int64, lines, packed []byte) (a Accepted, fresh bool, err error) {
	a = Accepted{Recording: in.stored.Recording, Stream: in.stored.Name, Batch: n}
	next := in.stored.Batches + 1
	counted := n != unnumbered
	if !counted {
		if err := in.recallSums(ctx); err != nil {
			return a, false, err
		}
		sum := sha256.Sum256(lines)
		if slices.Contains(in.latestSums, sum) {
			return a, false, nil
		}
		defer func() {
			if err == nil {
				in.latestSums = append(in.latestSums[max(0, len(in.latestSums)-maxSums+1):], sum)
			}
		}()
		n = next
		a.Batch = next
	}
	switch {
	case n > next:
		return a, false, &OutOfTurn{Stream: in.stored.Name, Expected: next, Got: n}
	case n < next:
		b, err := in.hub.batches.Batch(ctx, in.stored.ID, n)
		if err == nil && !bytes.Equal(b.Body, lines) {
			err = &Conflict{in.stored.Name, n}
		}
		a.Lines = b.Lines
		return a, false, err
	}
	if n == 1 {
		if _, err := helloOf(lines); err != nil {
			return a, false, err
		}
	}
	a.Lines = int64(bytes.Count(lines, []byte{'\n'}))
	if size := len(lines); size > 0 && lines[size-1] != '\n' {
		a.Lines++
	}
	now := time.Now().UnixNano()
	b := store.Batch{N: n, FirstLine: in.stored.Lines + 1, Lines: a.Lines, Body: lines, Packed: packed}
	if in.fresh.Load() {
		err = in.begin(ctx, b, now)
	} else {
		err = in.hub.batches.AppendBatch(ctx, in.stored.ID, b, now)
	}
	if err != nil {
		return a, false, err
	}
	a.Recording = in.stored.Recording
	in.stored.Batches, in.stored.Lines = n, in.stored.Lines+a.Lines
	in.hub.took(a.Lines, int64(len(lines)))
	return a, true, nil
}

// begin stores the stream with its first batch, and its recording if no other stream has.
func (in *intake) begin(ctx context.Context, b store.Batch, now int64) error {
	fresh := &in.of
	if _, err := in.hub.catalog.Recording(ctx, in.of.ID); err == nil {
		fresh = nil
	}
	id, err := in.hub.batches.BeginStream(ctx, fresh, in.stored, b, now)
	if errors.Is(err, store.ErrSpent) && fresh != nil {
		// Another stream of the same recording was quicker, or its id was another's once.
		if _, found := in.hub.catalog.Recording(ctx, in.of.ID); found == nil {
			id, err = in.hub.batches.BeginStream(ctx, nil, in.stored, b, now)
		} else {
			err = ErrBusy
		}
	}
	if err != nil {
		return err
	}
	in.stored.ID = id
	in.fresh.Store(false)
	return nil
}

// recallSums knows the latest batches of a sender that does not count again after a restart: it may not have heard that
// they were taken.
func (in *intake) recallSums(ctx context.Context) error {
	if in.recalled {
		return nil
	}
	var sums [][sha256.Size]byte
	for n := max(1, in.stored.Batches-maxSums+1); n <= in.stored.Batches; n++ {
		b, err := in.hub.batches.Batch(ctx, in.stored.ID, n)
		if err != nil {
			return err // the next batch tries again
		}
		sums = append(sums, sha256.Sum256(b.Body))
	}
	in.latestSums, in.recalled = sums, true
	return nil
}
