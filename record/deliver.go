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
)

// Close ends the recording, delivers what is left and ends the recorder's goroutines. It returns when all is delivered,
// or with an error when ctx ends first; what was not delivered by then is gone. Events after Close are ignored. A second
// Close waits for the first.
func (r *Recorder) Close(ctx context.Context) error {
	if r == nil {
		return nil
	}
	r.encode.Lock()
	if !r.isClosed() {
		r.set(Setting{})
		r.mu.Lock()
		r.closed = true
		r.mu.Unlock()
		r.cancel()
		close(r.stop)
	}
	r.encode.Unlock()
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

func (r *Recorder) isClosed() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.closed
}

// deliver sends batches until the recorder is closed and nothing is left, or delivery is hopeless.
func (r *Recorder) deliver() {
	defer close(r.done)
	sender := sender{r: r}
	for stopping := false; ; {
		select {
		case <-r.ready:
		case <-r.drawn:
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
	warned time.Time
}

// all sends everything there is. It returns false when there is no point in going on.
func (s *sender) all(stopping bool) bool {
	for {
		batch, ok := s.r.next()
		if !ok {
			return true
		}
		if batch.of.refused { // the rest of a stream that was refused for good
			continue
		}
		switch s.one(batch, stopping) {
		case nil:
			s.r.delivered(len(batch.text))
		case errRefused:
			// A later stream may still be taken.
			batch.of.refused = true
		default:
			return false
		}
	}
}

// next takes the oldest batch.
func (r *Recorder) next() (queued, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.queue) == 0 {
		return queued{}, false
	}
	batch := r.queue[0]
	r.queue[0] = queued{}
	r.queue = r.queue[1:]
	return batch, true
}

func (r *Recorder) delivered(size int) {
	r.mu.Lock()
	r.held -= size
	r.totals.Delivered++
	r.mu.Unlock()
	r.hurry() // there is room again
}

// The waits between tries of one batch.
const (
	firstRetry = 100 * time.Millisecond
	lastRetry  = 5 * time.Second
	lastTries  = 5 // how often a batch is tried while stopping
)

var (
	errRefused = errors.New("refused for good")
	errGivenUp = errors.New("given up")
)

// one delivers a batch, trying again until it is accepted. The error is errRefused or errGivenUp.
func (s *sender) one(batch queued, stopping bool) error {
	if s.r.cfg.Output != nil {
		if _, err := s.r.cfg.Output.Write(batch.text); err != nil {
			s.problem(fmt.Errorf("write the recording: %w", err))
			return errGivenUp
		}
		return nil
	}
	wait := firstRetry
	for tries := 0; ; tries++ {
		after, err := s.put(batch)
		if err == nil {
			batch.of.sent++
			return nil
		}
		s.problem(fmt.Errorf("send batch %d of the recording: %w", batch.of.sent+1, err))
		if errors.Is(err, errRefused) {
			return errRefused
		}
		if stopping && tries >= lastTries {
			return errGivenUp
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
func (s *sender) put(batch queued) (time.Duration, error) {
	at := fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", strings.TrimSuffix(s.r.cfg.Service, "/"), url.PathEscape(batch.of.stream), batch.of.sent+1)
	req, err := http.NewRequest(http.MethodPut, at, bytes.NewReader(batch.text))
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
