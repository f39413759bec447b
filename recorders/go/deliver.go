package record

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"mime"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"
)

// Close ends the recording, delivers what is left and ends the recorder's goroutines. It returns when all is delivered,
// or with an error when ctx or Config.CloseWait ends first; undelivered events are lost. Events after Close are ignored. A
// second Close waits for the first.
//
// A program that ends without Close loses the events of the last Config.FlushWait; the service keeps the rest and marks the stream as cut
// off.
func (r *Recorder) Close(ctx context.Context) error {
	if r == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, r.cfg.CloseWait)
	defer cancel()
	r.encode.Lock()
	if !r.isClosed() {
		r.set(Setting{}, "")
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
		r.giveUp()
		return fmt.Errorf("deliver the rest of the recording: %w", ctx.Err())
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.wrongAddress != nil {
		return fmt.Errorf("deliver the recording: %w", r.wrongAddress)
	}
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
	defer r.giveUp()
	if r.own != nil {
		defer r.own.CloseIdleConnections()
	}
	sender := sender{r: r, told: map[string]bool{}}
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
	told   map[string]bool // kinds of reasons that standard error has
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
			s.r.delivered(queuedCost(batch.text))
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
		if stopping && tries >= lastTries || s.r.sending.Err() != nil {
			return errGivenUp
		}
		stop := s.r.stop
		if stopping {
			stop, after = nil, min(after, time.Second) // Close does not wait for long
		}
		select {
		case <-time.After(max(jitter(wait), after)):
		case <-stop:
			stopping = true
		case <-s.r.sending.Done():
			return errGivenUp
		}
		wait = min(2*wait, lastRetry)
	}
}

// put sends one batch once. The duration is how long the service asks to wait before the next try.
func (s *sender) put(batch queued) (time.Duration, error) {
	if s.r.wrongAddress != nil {
		return 0, s.r.wrongAddress
	}
	at := fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", strings.TrimSuffix(s.r.cfg.Service, "/"), url.PathEscape(batch.of.stream), batch.of.sent+1)
	req, err := http.NewRequestWithContext(s.r.sending, http.MethodPut, at, bytes.NewReader(batch.text))
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
	said, err := io.ReadAll(io.LimitReader(res.Body, 4<<10))
	if err != nil {
		return 0, err
	}
	switch {
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
		seconds, _ := strconv.Atoi(res.Header.Get("Retry-After")) // absent, or a date, which no service of ours sends: none
		return min(max(0, time.Duration(seconds)*time.Second), lastRetry), fmt.Errorf("%s: %s", res.Status, said)
	case res.StatusCode >= 400:
		if kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); kind != "application/problem+json" {
			// Only a problem document of the service is final: the error page of a proxy may be temporary.
			return lastRetry, fmt.Errorf("%s with content type %q; is that a Keen Lantern service?", res.Status, kind)
		}
		if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
			return 0, fmt.Errorf("%w: %s: the service does not take Config.Token: %s", errRefused, res.Status, said)
		}
		return 0, fmt.Errorf("%w: %s: %s", errRefused, res.Status, said)
	}
	if err := answered(res); err != nil {
		return lastRetry, err
	}
	// Only the service's own word that it has just this batch counts: a proxy's page is no acknowledgement.
	var accepted struct {
		Stream string `json:"stream"`
		Batch  int64  `json:"batch"`
	}
	if err := json.Unmarshal(said, &accepted); err != nil || accepted.Stream != batch.of.stream || accepted.Batch != batch.of.sent+1 {
		return lastRetry, fmt.Errorf("what answers at %s does not acknowledge the batch; is that a Keen Lantern service?", s.r.cfg.Service)
	}
	return 0, nil
}

// answered reports whether an answer is one of the service's API.
func answered(res *http.Response) error {
	if to := res.Header.Get("Location"); res.StatusCode >= 300 && res.StatusCode < 400 {
		if at, err := url.Parse(to); err == nil {
			to = at.Host + at.Path
		}
		return fmt.Errorf("%s to %q, which is not followed; set Config.Service to where the service is", res.Status, to)
	}
	kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")) // what cannot be read is another kind
	if res.StatusCode != http.StatusOK || kind != "application/json" {
		return fmt.Errorf("the answer is %s with content type %q; is that a Keen Lantern service?", res.Status, kind)
	}
	return nil
}

// here returns a client that goes nowhere else: a redirect would take the token along, and what answers there would be
// believed.
func here(c *http.Client) *http.Client {
	own := *c
	own.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &own
}

// jitter spreads a wait over half of its length, so that many recorders do not try again at the same moment.
func jitter(wait time.Duration) time.Duration {
	return wait/2 + time.Duration(rand.Int64N(int64(wait)))
}

// problem reports why a batch cannot be delivered: at most once a second to Config.Problem, once for each kind of reason to standard
// error where there is none.
func (s *sender) problem(err error) {
	if report := s.r.cfg.Problem; report != nil {
		if time.Since(s.warned) >= time.Second {
			s.warned = time.Now()
			report(err)
		}
		return
	}
	kind := "delivery"
	if errors.Is(err, errRefused) {
		kind = "refusal"
	}
	if !s.told[kind] {
		s.told[kind] = true
		fmt.Fprintf(os.Stderr, "keenlantern/record: %v\n", err)
	}
}
