package record

import (
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"keenlantern.example/record/event"
)

// The ids that a Recorder counts up; see package event.
type (
	ScopeID     = event.ScopeID
	InstID      = event.InstID
	RegID       = event.RegID
	ContainerID = event.ContainerID
)

// Config says what is recorded and where it goes. App is required, and one of Service and Output.
type Config struct {
	App         string            // the application's name
	Version     string            // its version
	Environment string            // "production", "test" …
	Labels      map[string]string // anything that helps to tell recordings apart
	Sees        []string          // what this recorder is able to see; nil: everything

	Service string       // base URL of a Keen Lantern service
	Token   string       // sent as a bearer token where the service asks for one
	Client  *http.Client // nil: one with a time-out of 10 s
	Output  io.Writer    // instead of Service: lines go here, in order; the caller closes it after Close

	Memory    int           // bytes held while they cannot be sent; 0: 8 MiB
	BatchSize int           // bytes after which a batch is sent without waiting; 0: 256 KiB
	FlushWait time.Duration // how long an event waits for its batch to fill; 0: 200 ms

	// Problem is told, at most once a second, why batches cannot be delivered; nil: nobody is.
	Problem func(error)
}

const (
	defaultMemory    = 8 << 20
	defaultBatchSize = 256 << 10
	defaultFlushWait = 200 * time.Millisecond
)

// Recorder records one process. A nil Recorder does nothing.
type Recorder struct {
	cfg     Config
	start   time.Time
	stream  string
	objects registry

	scopes, insts, regs, containers atomic.Uint64

	mu     sync.Mutex
	ev     event.Event // the one being written; guarded by mu
	batch  []byte      // lines that are not in a batch yet
	queued [][]byte    // batches that wait to be sent, in order
	held   int         // bytes in queued, and in the one being sent
	lost   int64       // dropped since the last gap line
	totals Totals
	closed bool

	wake chan struct{}
	stop chan struct{}
	done chan struct{}
}

// Totals say what a Recorder has done so far.
type Totals struct {
	Events    int64 // written down
	Lost      int64 // dropped for want of memory
	Bytes     int64 // of lines
	Delivered int64 // batches accepted by the service
}

// Start begins a recording: it writes the hello and starts one goroutine, which Close ends.
func Start(cfg Config) (*Recorder, error) {
	if cfg.App == "" {
		return nil, errors.New("start recording: Config.App is empty; name the application")
	}
	if (cfg.Service == "") == (cfg.Output == nil) {
		return nil, errors.New("start recording: set either Config.Service or Config.Output")
	}
	if cfg.Memory <= 0 {
		cfg.Memory = defaultMemory
	}
	if cfg.BatchSize <= 0 {
		cfg.BatchSize = defaultBatchSize
	}
	cfg.BatchSize = min(cfg.BatchSize, cfg.Memory/2)
	if cfg.FlushWait <= 0 {
		cfg.FlushWait = defaultFlushWait
	}
	if cfg.Client == nil {
		cfg.Client = &http.Client{Timeout: 10 * time.Second}
	}
	r := &Recorder{
		cfg: cfg, start: time.Now(), stream: newUUID(),
		wake: make(chan struct{}, 1), stop: make(chan struct{}), done: make(chan struct{}),
	}
	r.objects.init(r)
	r.hello()
	go r.deliver()
	return r, nil
}

func newUUID() string {
	var b [16]byte
	rand.Read(b[:]) // never fails, see crypto/rand
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Stream returns the id of the stream this recorder writes, "" for nil.
func (r *Recorder) Stream() string {
	if r == nil {
		return ""
	}
	return r.stream
}

// Totals returns what has been done so far.
func (r *Recorder) Totals() Totals {
	if r == nil {
		return Totals{}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.totals
}

func (r *Recorder) hello() {
	host, _ := os.Hostname()
	r.write(func(e *event.Event) {
		e.Kind = event.Hello
		e.Format, e.App, e.Stream = event.Format, r.cfg.App, r.stream
		e.Start = r.start.UTC().Format("2006-01-02T15:04:05.000000000Z07:00")
		e.Has = event.Of(event.FFormat, event.FApp, event.FStream, event.FStart, event.FLanguage, event.FPID, event.FRecorder)
		e.Language, e.PID, e.Recorder = "go "+runtime.Version(), int64(os.Getpid()), "keenlantern/record"
		text(e, event.FHost, &e.Host, host)
		text(e, event.FVersion, &e.Version, r.cfg.Version)
		text(e, event.FEnvironment, &e.Environment, r.cfg.Environment)
		if len(r.cfg.Labels) > 0 {
			e.Labels = r.cfg.Labels
			e.Has.Set(event.FLabels)
		}
		if r.cfg.Sees != nil {
			e.Sees = append(e.Sees, r.cfg.Sees...)
			e.Has.Set(event.FSees)
		}
	})
}

// text sets a field that is left out when it is empty.
func text(e *event.Event, f event.Field, to *string, value string) {
	if value != "" {
		*to = value
		e.Has.Set(f)
	}
}

// maxLine is what a service reads of one line; a longer one is dropped and counted rather than refused there.
const maxLine = 1 << 20

// write lets fill describe one event and appends its line. The time is taken under the lock, so that lines stand in
// the order of their times.
func (r *Recorder) write(fill func(*event.Event)) {
	if r == nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return
	}
	e := &r.ev
	e.Reset()
	fill(e)
	e.T = time.Since(r.start).Nanoseconds()
	r.put(e)
}

// put appends e's line if there is room, and before it what was lost since the last line. The caller holds mu. A bye is
// always written: it is small, and without it everything that is still open would be unknown.
func (r *Recorder) put(e *event.Event) {
	before := len(r.batch)
	room := r.cfg.Memory - r.held
	if r.lost > 0 {
		// Once something was dropped, the next line waits until there is room for more than itself: few long gaps
		// say more than many short ones.
		if before > room-r.cfg.Memory/8 && e.Kind != event.Bye {
			r.drop()
			return
		}
		gap := event.Event{Kind: event.Gap, T: e.T, Lost: r.lost, Why: "no memory left", Has: event.Of(event.FLost, event.FWhy)}
		r.batch = event.AppendLine(r.batch, &gap)
		r.lost = 0
		r.totals.Events++
	}
	line := len(r.batch)
	r.batch = event.AppendLine(r.batch, e)
	if (len(r.batch) > room || len(r.batch)-line > maxLine) && e.Kind != event.Bye {
		r.batch = r.batch[:line]
		r.drop()
	} else {
		r.totals.Events++
	}
	r.totals.Bytes += int64(len(r.batch) - before)
	if len(r.batch) >= r.cfg.BatchSize {
		r.cut()
		select {
		case r.wake <- struct{}{}:
		default:
		}
	}
}

func (r *Recorder) drop() {
	r.lost++
	r.totals.Lost++
}

// cut makes a batch of the lines so far. The caller holds mu.
func (r *Recorder) cut() {
	if len(r.batch) == 0 {
		return
	}
	r.queued = append(r.queued, r.batch)
	r.held += len(r.batch)
	r.batch = make([]byte, 0, min(r.cfg.BatchSize+4<<10, cap(r.batch)))
}
