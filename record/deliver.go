package record

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"keenlantern.example/record/event"
)

// Close writes the bye, delivers what is left and ends the recorder's goroutine. It returns when all is delivered, or
// with an error when ctx ends first; what was not delivered by then is gone. Events after Close are ignored. A second
// Close waits for the first.
func (r *Recorder) Close(ctx context.Context) error {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	if !r.closed {
		e := event.Event{Kind: event.Bye, T: time.Since(r.start).Nanoseconds()}
		r.put(&e)
		r.closed = true
		close(r.stop)
	}
	r.mu.Unlock()
	select {
	case <-r.done:
	case <-ctx.Done():
		return fmt.Errorf("deliver the rest of the recording: %w", ctx.Err())
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if left := r.held; left > 0 {
		return fmt.Errorf("deliver the rest of the recording: %d bytes were refused", left)
	}
	return nil
}

// deliver sends batches until the recorder is closed and nothing is left, or delivery is hopeless.
func (r *Recorder) deliver() {
	defer close(r.done)
	tick := time.NewTicker(r.cfg.FlushWait)
	defer tick.Stop()
	sender := sender{r: r}
	for stopping := false; ; {
		select {
		case <-tick.C:
		case <-r.wake:
		case <-r.stop:
			stopping = true
		}
		if !sender.all(stopping) || stopping {
			return
		}
	}
}

// sender delivers batches in order, each until it is accepted.
type sender struct {
	r      *Recorder
	n      int64 // the number of the last batch that was accepted
	warned time.Time
}

// all sends everything there is. It returns false when there is no point in going on.
func (s *sender) all(stopping bool) bool {
	for {
		batch := s.r.next()
		if batch == nil {
			return true
		}
		if !s.one(batch, stopping) {
			return false
		}
		s.r.delivered(len(batch))
	}
}

// next takes the oldest batch, cutting one if need be; nil if there is nothing.
func (r *Recorder) next() []byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.queued) == 0 {
		r.cut()
	}
	if len(r.queued) == 0 {
		return nil
	}
	batch := r.queued[0]
	r.queued[0] = nil
	r.queued = r.queued[1:]
	return batch
}

func (r *Recorder) delivered(size int) {
	r.mu.Lock()
	r.held -= size
	r.totals.Delivered++
	r.mu.Unlock()
}

// The waits between tries of one batch.
const (
	firstRetry = 100 * time.Millisecond
	lastRetry  = 5 * time.Second
	lastTries  = 5 // how often a batch is tried while stopping
)

var errRefused = errors.New("refused for good")

// one delivers a batch, trying again until it is accepted.
func (s *sender) one(batch []byte, stopping bool) bool {
	if s.r.cfg.Output != nil {
		if _, err := s.r.cfg.Output.Write(batch); err != nil {
			s.problem(fmt.Errorf("write the recording: %w", err))
			return false
		}
		return true
	}
	wait := firstRetry
	for tries := 0; ; tries++ {
		after, err := s.put(batch)
		if err == nil {
			s.n++
			return true
		}
		s.problem(fmt.Errorf("send batch %d of the recording: %w", s.n+1, err))
		if errors.Is(err, errRefused) || stopping && tries >= lastTries {
			return false
		}
		stop := s.r.stop
		if stopping {
			stop = nil
		}
		select {
		case <-time.After(max(wait, after)):
		case <-stop:
			stopping = true
		}
		wait = min(2*wait, lastRetry)
	}
}

// put sends one batch once. The duration is how long the service asks to wait before the next try.
func (s *sender) put(batch []byte) (time.Duration, error) {
	at := fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", strings.TrimSuffix(s.r.cfg.Service, "/"), url.PathEscape(s.r.stream), s.n+1)
	req, err := http.NewRequest(http.MethodPut, at, bytes.NewReader(batch))
	if err != nil {
		return 0, fmt.Errorf("%w: %w", errRefused, err)
	}
	req.Header.Set("Content-Type", "application/x-ndjson")
	if s.r.cfg.Token != "" {
		req.Header.Set("Authorization", "Bearer "+s.r.cfg.Token)
	}
	res, err := s.r.cfg.Client.Do(req)
	if err != nil {
		return 0, err
	}
	defer res.Body.Close()
	said, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	switch {
	case res.StatusCode < 300:
		return 0, nil
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
		seconds, _ := time.ParseDuration(res.Header.Get("Retry-After") + "s")
		return min(seconds, lastRetry), fmt.Errorf("%s: %s", res.Status, said)
	}
	return 0, fmt.Errorf("%w: %s: %s", errRefused, res.Status, said)
}

// problem tells of trouble, at most once a second.
func (s *sender) problem(err error) {
	if s.r.cfg.Problem != nil && time.Since(s.warned) >= time.Second {
		s.warned = time.Now()
		s.r.cfg.Problem(err)
	}
}
