package record

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
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

// Unrecorded is the scope of work that is not recorded: recording is off, the scope was not sampled, or there was no
// memory for it. What happens in it is left out as a whole, but for what lives as long as its container.
const Unrecorded ScopeID = 1 << 62

// dropped is Unrecorded for want of memory: what happens in it is counted.
const dropped = Unrecorded + 1

// Config is what is recorded and where it goes. App is required, and one of Service and Output.
type Config struct {
	App         string            // the application's name
	Version     string            // its version
	Environment string            // "production", "test" …
	Labels      map[string]string // anything that helps to distinguish recordings
	Sees        []string          // what this recorder is able to see; nil: everything

	Service string       // base URL of a Keen Lantern service
	Token   string       // sent as a bearer token where the service asks for one
	Client  *http.Client // nil: one with connections of its own, and a time-out of 10 s for batches and of a minute for orders; redirects are not followed
	Output  io.Writer    // instead of Service: lines go here, in order; the caller closes it after Close

	// Off begins without recording; Set, or the service, switches it on. Setting is how it records otherwise.
	Off     bool
	Setting Setting
	// Alone keeps the service from switching this recorder: it is not asked.
	Alone bool

	Memory    int           // bytes held while they cannot be sent; 0: 8 MiB
	BatchSize int           // bytes after which a batch is sent without waiting; 0: 1 MiB
	FlushWait time.Duration // how long an event waits for its batch to fill; 0: 200 ms

	// HideUnregistered writes NotRegistered for every service or key that is asked for and not registered: it may come from a request.
	// Otherwise the first 256 different ones are written.
	HideUnregistered bool

	// CloseWait is how long Close goes on delivering at most, whatever its context allows; 0: 5 s.
	CloseWait time.Duration

	// Problem is called, at most once a second, with the reason why batches cannot be delivered. Where it is nil, the first of each kind
	// of reason (no answer, a refusal, a wrong address) is written to standard error.
	Problem func(error)
}

const (
	defaultMemory    = 8 << 20
	defaultBatchSize = 1 << 20
	defaultFlushWait = 200 * time.Millisecond
	defaultCloseWait = 5 * time.Second
)

// Recorder records one process. A nil Recorder does nothing.
type Recorder struct {
	cfg     Config
	id      string // of this recorder, in the process's lifetime
	objects registry
	follow  atomic.Bool // Here is needed
	places  places

	unregistered unregistered
	keys         keyNumbers

	session                         atomic.Pointer[session] // nil: off
	scopes, insts, regs, containers atomic.Uint64
	roots                           sync.Map     // ScopeID: of containers; they outlive sessions
	rootCount                       atomic.Int64 // of them
	rooted                          atomic.Bool  // scope 0 is taken
	long                            bits         // by RegID: registrations whose instances outlive scopes
	most                            shares
	remembered                      atomic.Int64 // bytes
	crowded                         atomic.Bool  // memory is getting short: new scopes are left out
	skipped                         atomic.Int64 // events of scopes that were left out for want of memory

	shards []shard
	spare  []shard // buffers that are not in use; guarded by encode

	setup  sync.Mutex // guards the lines that are repeated at the start of each session
	told   []byte     // lines
	untold int64      // what there was no room for
	kept   map[InstID]kept

	encode sync.Mutex // one turns notes into lines at a time
	ev     event.Event
	batch  []byte   // lines that are not in a batch yet
	of     *session // whose they are
	gap    int64    // dropped since the last gap line

	mu     sync.Mutex // guards the queue
	queue  []queued
	held   int // bytes in the queue, and in the batch being sent
	totals Totals
	closed bool

	wake   chan struct{} // notes are to be turned into lines
	ready  chan struct{} // the queue has something
	stop   chan struct{}
	drawn  chan struct{} // closed when nothing will be added to the queue any more
	done   chan struct{}
	ctx    context.Context // ends with Close
	cancel context.CancelFunc

	sending      context.Context // ends when Close waits no longer
	giveUp       context.CancelFunc
	own          *http.Transport // nil: the application's
	wrongAddress error           // Config.Service is not a URL
}

// queued is a batch that waits to be sent.
type queued struct {
	of   *session
	text []byte
}

// Totals are what a Recorder has done so far.
type Totals struct {
	Events    int64 // written down
	Lost      int64 // dropped for want of memory
	Bytes     int64 // of lines
	Delivered int64 // batches accepted by the service
}

// Start begins a recording. It starts three goroutines at most, which Close ends.
func Start(cfg Config) (*Recorder, error) {
	if cfg.App == "" {
		return nil, errors.New("start recording: Config.App is empty; name the application")
	}
	if (cfg.Service == "") == (cfg.Output == nil) {
		return nil, errors.New("start recording: set either Config.Service or Config.Output")
	}
	if err := cfg.Setting.check(); err != nil {
		return nil, fmt.Errorf("start recording: Config.Setting: %w", err)
	}
	if cfg.Memory <= 0 {
		cfg.Memory = defaultMemory
	}
	if cfg.BatchSize <= 0 {
		cfg.BatchSize = defaultBatchSize
	}
	cfg.BatchSize = min(cfg.BatchSize, cfg.Memory/8)
	if cfg.FlushWait <= 0 {
		cfg.FlushWait = defaultFlushWait
	}
	if cfg.CloseWait <= 0 {
		cfg.CloseWait = defaultCloseWait
	}
	patient := cfg.Client
	var own *http.Transport
	if cfg.Client == nil {
		own = transportOf()
		cfg.Client, patient = &http.Client{Transport: own, Timeout: 10 * time.Second}, &http.Client{Transport: own, Timeout: time.Minute}
	}
	cfg.Client, patient = here(cfg.Client), here(patient)
	r := &Recorder{
		cfg: cfg, id: newUUID(), kept: map[InstID]kept{}, most: sharesOf(cfg.Memory),
		wake: make(chan struct{}, 1), ready: make(chan struct{}, 1), stop: make(chan struct{}), drawn: make(chan struct{}), done: make(chan struct{}),
	}
	r.own = own
	r.sending, r.giveUp = context.WithCancel(context.Background())
	r.unregistered.hide = cfg.HideUnregistered
	r.ctx, r.cancel = context.WithCancel(context.Background())
	r.objects.init(r)
	r.makeShards()
	if !cfg.Off {
		r.Set(cfg.Setting.on())
	}
	go r.draw()
	if cfg.Service != "" {
		r.wrongAddress = checkAddress(cfg.Service)
	}
	go r.deliver()
	if cfg.Service != "" && !cfg.Alone && r.wrongAddress == nil {
		go r.listen(patient)
	}
	return r, nil
}

// transportOf returns a transport whose connections are the recorder's alone, few of them, and end with it.
func transportOf() *http.Transport {
	t, ok := http.DefaultTransport.(*http.Transport)
	if !ok { // the application has put its own in the place of the default one
		return &http.Transport{Proxy: http.ProxyFromEnvironment, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: maxAnswerHeader}
	}
	own := t.Clone()
	own.MaxIdleConns, own.MaxIdleConnsPerHost = 2, 2
	own.MaxResponseHeaderBytes = maxAnswerHeader
	return own
}

// maxAnswerHeader bounds the headers of an answer in bytes: what answers may be no service.
const maxAnswerHeader = 64 << 10

// checkAddress returns an error if an address is not the URL of a service.
func checkAddress(service string) error {
	at, err := url.Parse(service)
	if err == nil && (at.Scheme == "http" || at.Scheme == "https") && at.Host != "" {
		return nil
	}
	return fmt.Errorf("%w: Config.Service is %q, which is no address of a service; write it as http://host:7460", errRefused, service)
}

func newUUID() string {
	var b [16]byte
	rand.Read(b[:]) // never fails, see crypto/rand
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// Stream returns the id of the stream that is being written, "" while recording is off.
func (r *Recorder) Stream() string {
	if r == nil {
		return ""
	}
	if s := r.session.Load(); s != nil {
		return s.stream
	}
	return ""
}

// Totals returns what has been done so far.
func (r *Recorder) Totals() Totals {
	if r == nil {
		return Totals{}
	}
	lost := r.skipped.Load()
	for n := range r.shards {
		s := &r.shards[n]
		s.mu.Lock()
		lost += s.lost
		s.mu.Unlock()
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	t := r.totals
	t.Lost += lost
	return t
}

// text sets a field that is left out when it is empty.
func text(e *event.Event, f event.Field, to *string, value string) {
	if value != "" {
		*to = value
		e.Has.Set(f)
	}
}

// flag sets a field that is left out when it is false.
func flag(e *event.Event, f event.Field, to *bool, value bool) {
	if value {
		*to = true
		e.Has.Set(f)
	}
}
