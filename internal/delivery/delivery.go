// Package delivery is a service that answers a recorder as a script says: with errors, resets, stalls, redirects and garbage. It
// holds what a recorder in any language is held to: nothing is lost that it kept, and nothing is there twice.
package delivery

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"
)

// Step is how one request is answered.
type Step string

// The steps. A script that has come to its end takes every batch.
const (
	Take         Step = "take"               // as a service does
	Busy         Step = "429"                // with Retry-After: 1
	Unavailable  Step = "503"                // with Retry-After: 0
	Fault        Step = "500"                //
	Reset        Step = "reset"              // the connection is cut before anything is answered
	TakeAndReset Step = "take, then reset"   // the batch is stored, and its sender does not learn that
	TakeAndCut   Step = "take, then cut off" // the answer breaks off
	Stall        Step = "stall"              // nothing is answered for as long as Service.Stall, or until Service.Until
	Redirect     Step = "redirect"           // to a page of another host
	Garbage      Step = "garbage"            // 200 and a page that is no acknowledgement
	Proxy        Step = "a proxy's 404"      // and its page: the service is being moved
	Other        Step = "another's"          // 200 and the acknowledgement of another batch
	Refuse       Step = "409"                // for good
)

// Service answers as its script says. Start it with http or httptest.
type Service struct {
	Script []Step
	Stall  time.Duration

	// Meanwhile is how every batch is answered until Until is closed; the script begins then. A nil Until is as one that is closed.
	Meanwhile Step
	Until     <-chan struct{}

	mu       sync.Mutex
	streams  map[string]*stream
	requests int
	wrong    []string
	refused  map[string]bool // streams
	left     int             // requests to where a redirect led
}

// stream is what was taken of one.
type stream struct {
	batches [][]byte // as they came
	lines   [][]byte
}

// Verdict is the result of a case.
type Verdict struct {
	Requests int
	Streams  int
	Lines    [][]byte // taken, all streams together
	Wrong    []string // what a recorder must not do
}

// Verdict returns what has come of it so far.
func (s *Service) Verdict() Verdict {
	s.mu.Lock()
	defer s.mu.Unlock()
	v := Verdict{Requests: s.requests, Streams: len(s.streams), Wrong: append([]string(nil), s.wrong...)}
	for _, st := range s.streams {
		v.Lines = append(v.Lines, st.lines...)
	}
	if s.left > 0 {
		v.Wrong = append(v.Wrong, fmt.Sprintf("a redirect was followed %d times", s.left))
	}
	return v
}

// ServeHTTP answers a recorder: batches by the script, questions for orders with none.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.TrimPrefix(r.URL.Path, "/api/v1/"), "/")
	switch {
	case r.URL.Path == "/sign-in":
		s.mu.Lock()
		s.left++
		s.mu.Unlock()
	case len(parts) == 4 && parts[0] == "streams" && parts[2] == "batches" && r.Method == http.MethodPut:
		s.batch(w, r, parts[1], parts[3])
	case len(parts) == 4 && parts[0] == "applications" && r.Method == http.MethodPut:
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprint(w, `{"version":0,"on":false}`)
	default:
		s.say("a request that is none of a recorder's: %s %s", r.Method, r.URL.Path)
		http.NotFound(w, r)
	}
}

func (s *Service) say(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.wrong = append(s.wrong, fmt.Sprintf(format, args...))
}

// next returns the script's next step.
func (s *Service) next(name string) Step {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Until != nil {
		select {
		case <-s.Until:
		default:
			return s.Meanwhile
		}
	}
	s.requests++
	if s.refused[name] {
		s.wrong = append(s.wrong, "a stream that was refused for good was tried again")
	}
	step := Take
	if s.requests <= len(s.Script) {
		step = s.Script[s.requests-1]
	}
	if step == Refuse {
		if s.refused == nil {
			s.refused = map[string]bool{}
		}
		s.refused[name] = true
	}
	return step
}

func (s *Service) batch(w http.ResponseWriter, r *http.Request, name, number string) {
	body, err := unpacked(r)
	if err != nil {
		s.say("a body that cannot be read: %v", err)
		http.Error(w, "the body cannot be read", http.StatusBadRequest)
		return
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 {
		s.say("batch %q", number)
		http.Error(w, "a batch has a number, from 1", http.StatusBadRequest)
		return
	}
	step := s.next(name)
	answer := func() { s.take(w, name, n, body) }
	switch step {
	case Busy:
		w.Header().Set("Retry-After", "1")
		http.Error(w, "too much", http.StatusTooManyRequests)
	case Unavailable:
		w.Header().Set("Retry-After", "0")
		http.Error(w, "not now", http.StatusServiceUnavailable)
	case Fault:
		http.Error(w, "a fault", http.StatusInternalServerError)
	case Reset:
		panic(http.ErrAbortHandler)
	case TakeAndReset:
		s.take(nowhere{}, name, n, body)
		panic(http.ErrAbortHandler)
	case TakeAndCut:
		s.take(nowhere{}, name, n, body)
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Content-Length", "200")
		fmt.Fprint(w, `{"stream":"`)
	case Stall:
		var stalled <-chan time.Time // never, before Until is closed
		if s.Until == nil {
			stalled = time.After(s.Stall)
		}
		select {
		case <-stalled:
		case <-s.Until:
		case <-r.Context().Done():
		}
	case Redirect:
		http.Redirect(w, r, "/sign-in", http.StatusFound)
	case Garbage:
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprint(w, "<html>sign in</html>")
	case Proxy:
		http.Error(w, "there is no such site", http.StatusNotFound)
	case Other:
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"stream": name, "batch": n + 1})
	case Refuse:
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusConflict)
		fmt.Fprint(w, `{"title":"taken with other lines","status":409}`)
	default:
		answer()
	}
}

// nowhere is where an answer goes that its sender does not learn of.
type nowhere struct{}

func (nowhere) Header() http.Header         { return http.Header{} }
func (nowhere) Write(b []byte) (int, error) { return len(b), nil }
func (nowhere) WriteHeader(int)             {}

// take stores a batch as a service does.
func (s *Service) take(w http.ResponseWriter, name string, n int, body []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.streams == nil {
		s.streams = map[string]*stream{}
	}
	st := s.streams[name]
	if st == nil {
		st = &stream{}
		s.streams[name] = st
	}
	switch {
	case n <= len(st.batches):
		if !bytes.Equal(st.batches[n-1], body) {
			s.wrong = append(s.wrong, fmt.Sprintf("batch %d came again with other lines", n))
		}
	case n > len(st.batches)+1:
		s.wrong = append(s.wrong, fmt.Sprintf("batch %d came after batch %d", n, len(st.batches)))
	default:
		if n == 1 && !bytes.HasPrefix(body, []byte(`{"ev":"hello"`)) {
			s.wrong = append(s.wrong, "a stream does not begin with a hello")
		}
		if len(body) == 0 || body[len(body)-1] != '\n' {
			s.wrong = append(s.wrong, "a batch does not end with a line's end")
		}
		st.batches = append(st.batches, body)
		for line := range bytes.Lines(body) {
			st.lines = append(st.lines, bytes.TrimRight(line, "\n"))
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"stream": name, "batch": n, "lines": bytes.Count(body, []byte("\n"))})
}

// unpacked reads a body, packed or not.
func unpacked(r *http.Request) ([]byte, error) {
	switch r.Header.Get("Content-Encoding") {
	case "":
		return io.ReadAll(r.Body)
	case "gzip":
		z, err := gzip.NewReader(r.Body)
		if err != nil {
			return nil, err
		}
		return io.ReadAll(z)
	case "zstd":
		z, err := zstd.NewReader(r.Body)
		if err != nil {
			return nil, err
		}
		defer z.Close()
		return io.ReadAll(z)
	}
	return nil, fmt.Errorf("content encoding %q", r.Header.Get("Content-Encoding"))
}

// Scripts are what every recorder is tried with, by name. Each ends in a service that takes everything.
var Scripts = map[string][]Step{
	"all is well":                  nil,
	"busy for a while":             {Busy, Unavailable, Busy, Take, Unavailable, Unavailable},
	"faults":                       {Fault, Fault, Take, Fault},
	"connections break":            {Reset, TakeAndReset, Reset, TakeAndReset, Take, TakeAndCut},
	"it stalls":                    {Take, Stall, Take},
	"a proxy's sign-in page":       {Redirect, Garbage, Take, Redirect, Garbage, Garbage},
	"a proxy's error page":         {Take, Proxy, Take},
	"another batch's acknowledged": {Other, Take, Other},
	"refused for good":             {Take, Refuse},
}
