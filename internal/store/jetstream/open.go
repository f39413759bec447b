package jetstream

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	lru "github.com/hashicorp/golang-lru/v2"
	"github.com/klauspost/compress/zstd"
	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"keenlantern.example/internal/core/ids"
	"keenlantern.example/internal/store"
)

// Config is which log is meant, and as who.
type Config struct {
	URL         string // nats://HOST:PORT, several with commas between them
	Credentials string // file of a user's credentials; "" for none
	CA          string // file (PEM) of who signs the servers' certificates; "" for the system's
	Cert, Key   string // files (PEM) of this service's own certificate; "" for none

	Name       string // of the installation; several may share a log. "" is keenlantern
	Replicas   int    // servers that have each batch; 0 is 3, or what the log was begun with
	Partitions int    // 0 is 64, or what the log was begun with
	MaxBytes   int64  // of all batches, as the log stores them; 0 is without bound

	Folder  string        // data folder of this service alone
	Address string        // where it is reached, for people
	Version string        // of the program
	Lease   time.Duration // how long a service that is gone keeps its partitions; 0 is 10 s, or what the log was begun with

	Log *slog.Logger
	Now func() time.Time // the time of day; nil: the machine's clock
}

// What is taken where nothing is said.
const (
	DefaultName       = "keenlantern"
	DefaultReplicas   = 3
	DefaultPartitions = 64
	DefaultLease      = 10 * time.Second
	MaxPartitions     = 1024
)

const (
	openFor = 20 * time.Second // for what has to be there at the start
	format  = "1"              // of what is in the log
)

// Store is a log that several services share. Open opens one.
type Store struct {
	cfg  Config
	id   string // of this service
	run  string // of this process
	lock *flock.Flock
	log  *slog.Logger

	conn    *nats.Conn
	js      jetstream.JetStream
	batches jetstream.Stream
	derived jetstream.Stream
	part    int // bytes of a message at most

	catalog  *table
	leases   *table
	services *table
	open     *table

	zip     *zstd.Encoder
	unzip   *zstd.Decoder
	blobs   *lru.Cache[string, []byte] // pieces that are never changed
	watched sync.Map                   // kind of row → []func(key string)

	known     known
	held      held
	parts     partitions
	peers     peers
	summaries summaries
	publish   latency

	refused atomic.Pointer[string] // what the log's servers last refused this service's credentials
	began   time.Time
	ctx     context.Context
	stop    context.CancelFunc
	wg      sync.WaitGroup
	ending  sync.RWMutex // held for writing from when nothing more begins
	ended   bool
}

// begin runs f beside everything else, unless the store is being closed.
func (s *Store) begin(f func()) {
	s.ending.RLock()
	defer s.ending.RUnlock()
	if !s.ended {
		s.wg.Go(f)
	}
}

// latency adds up how long publishing took.
type latency struct{ count, ns, failed atomic.Int64 }

var goodName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9-]{0,31}$`)

// Open connects to a log, and creates its streams if they are missing. The error names the cause.
func Open(ctx context.Context, cfg Config) (_ *Store, err error) {
	cfg.Name = cmp.Or(cfg.Name, DefaultName)
	if cfg.Now == nil {
		cfg.Now = time.Now
	}
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	if !goodName.MatchString(cfg.Name) {
		return nil, fmt.Errorf("the log's name is %q; it is of letters, digits and hyphens, at most 32", cfg.Name)
	}
	if cfg.Partitions < 0 || cfg.Partitions > MaxPartitions {
		return nil, fmt.Errorf("%d partitions are asked for; a log has from 1 to %d", cfg.Partitions, MaxPartitions)
	}
	s := &Store{run: ids.Random(5), cfg: cfg, log: cfg.Log, began: time.Now()}
	s.ctx, s.stop = context.WithCancel(context.Background())
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
		}
	}()
	if err := s.claimFolder(); err != nil {
		return nil, err
	}
	s.zip, _ = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest)) // the options are good
	s.unzip, _ = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0))
	s.blobs, _ = lru.New[string, []byte](256) // the size is positive
	s.known.init()
	s.parts.init()
	if err := s.connect(); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, openFor)
	defer cancel()
	if err := s.prepare(ctx); err != nil {
		return nil, err
	}
	if err := s.mayPublish(ctx); err != nil {
		return nil, err
	}
	if err := s.followTables(ctx); err != nil {
		return nil, err
	}
	if err := s.answerOthers(); err != nil {
		return nil, err
	}
	s.begin(s.keepLeases)
	return s, nil
}

// claimFolder takes the lock of the data folder, and the service's id from it.
func (s *Store) claimFolder() error {
	if s.cfg.Folder == "" { // a command that works on the log itself
		s.id = ids.Random(5)
		return nil
	}
	if err := os.MkdirAll(s.cfg.Folder, 0o700); err != nil {
		return fmt.Errorf("make the data folder: %w", err)
	}
	lock := flock.New(filepath.Join(s.cfg.Folder, "keenlantern.lock"))
	if ok, err := lock.TryLock(); err != nil {
		return fmt.Errorf("lock the data folder: %w", err)
	} else if !ok {
		return store.ErrInUse
	}
	s.lock = lock
	if _, err := os.Stat(filepath.Join(s.cfg.Folder, "keenlantern.db")); err == nil {
		return errors.New("it holds the recordings of a service without a log; name another folder with --data, and send what is to be kept with 'keenlantern export' and 'keenlantern import'")
	}
	file := filepath.Join(s.cfg.Folder, "service-id")
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) || err == nil && !goodName.Match(text) { // half-written
		text = []byte(ids.Random(5))
		err = os.WriteFile(file, text, 0o600)
	}
	if err != nil {
		return fmt.Errorf("read the service's id: %w", err)
	}
	s.id = string(text)
	return nil
}

func (s *Store) connect() error {
	opts := []nats.Option{
		nats.Name("keenlantern " + s.id), nats.Timeout(5 * time.Second), nats.MaxReconnects(-1), nats.ReconnectWait(200 * time.Millisecond),
		nats.PingInterval(2 * time.Second), nats.MaxPingsOutstanding(2), nats.ReconnectBufSize(-1), // what cannot be sent fails at once
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			if errors.Is(err, nats.ErrPermissionViolation) {
				text := err.Error()
				s.refused.Store(&text)
			}
			s.log.Warn("the log's servers complain", "error", err)
		}),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				s.log.Warn("the connection to the log was lost", "error", err)
			}
		}),
		nats.ReconnectHandler(func(c *nats.Conn) {
			s.log.Info("connected to the log again", "server", c.ConnectedUrlRedacted())
		}),
	}
	if s.cfg.Credentials != "" {
		if _, err := os.Stat(s.cfg.Credentials); err != nil {
			return fmt.Errorf("read the credentials for the log: %w", err)
		}
		opts = append(opts, nats.UserCredentials(s.cfg.Credentials))
	}
	if s.cfg.CA != "" {
		opts = append(opts, nats.RootCAs(s.cfg.CA))
	}
	if s.cfg.Cert != "" {
		opts = append(opts, nats.ClientCert(s.cfg.Cert, s.cfg.Key))
	}
	c, err := nats.Connect(s.cfg.URL, opts...)
	switch {
	case errors.Is(err, nats.ErrAuthorization):
		return fmt.Errorf("the log at %s does not let this service in; --log-credentials names the file with its credentials", Redacted(s.cfg.URL))
	case err != nil:
		return fmt.Errorf("the log at %s cannot be reached: %w; --log names one or more of its servers, as in nats://log-1:4222,nats://log-2:4222", Redacted(s.cfg.URL), err)
	}
	s.conn = c
	if s.js, err = jetstream.New(c, jetstream.WithDefaultTimeout(patience)); err != nil {
		return fmt.Errorf("use the log: %w", err)
	}
	s.part = int(min(c.MaxPayload()-32<<10, 1<<20)) // room for headers
	return nil
}

var secretIn = regexp.MustCompile(`//[^/@,]*@`)

// Redacted returns the addresses of a log without the passwords in them.
func Redacted(url string) string { return secretIn.ReplaceAllString(url, "//") }

// again makes a request until it is answered: the servers may have begun a moment ago, and be choosing who leads.
func again[T any](ctx context.Context, s *Store, f func(context.Context) (T, error)) (got T, err error) {
	for try := 0; ; try++ {
		one, cancel := context.WithTimeout(ctx, 2*time.Second)
		got, err = f(one)
		cancel()
		if s.refused.Load() != nil && err != nil {
			return got, err // it will not be otherwise the next time
		}
		if err == nil || !lost(err) && apiCode(err) != codeNoLeader && apiCode(err) != codeNoPlace || ctx.Err() != nil {
			return got, err
		}
		if errors.Is(err, nats.ErrNoResponders) && try > 10 {
			return got, err // no server answers
		}
		if pause(ctx, try) != nil {
			return got, err
		}
	}
}

// prepare finds the log's streams and buckets, or makes them.
func (s *Store) prepare(ctx context.Context) error {
	if _, err := again(ctx, s, s.js.AccountInfo); err != nil {
		switch apiCode(err) {
		case jetstream.JSErrCodeJetStreamNotEnabled, jetstream.JSErrCodeJetStreamNotEnabledForAccount:
			return fmt.Errorf("the server at %s has no JetStream, so it keeps nothing; start it with -js, or allow JetStream for this account", s.conn.ConnectedUrlRedacted())
		}
		if errors.Is(err, nats.ErrNoResponders) || errors.Is(err, jetstream.ErrJetStreamNotEnabled) {
			return fmt.Errorf("the server at %s has no JetStream, so it keeps nothing; start it with -js, or allow JetStream for this account", s.conn.ConnectedUrlRedacted())
		}
		return s.denied("ask the log how it is", err)
	}
	name := s.cfg.Name
	find := func(ctx context.Context) (jetstream.Stream, error) { return s.js.Stream(ctx, name+"-batches") }
	st, err := again(ctx, s, find)
	if errors.Is(err, jetstream.ErrStreamNotFound) {
		s.cfg.Replicas, s.cfg.Partitions = cmp.Or(s.cfg.Replicas, DefaultReplicas), cmp.Or(s.cfg.Partitions, DefaultPartitions)
		st, err = again(ctx, s, func(ctx context.Context) (jetstream.Stream, error) {
			return s.js.CreateStream(ctx, jetstream.StreamConfig{
				Name: name + "-batches", Description: "Keen Lantern: batches as they came", Subjects: []string{name + ".batch.>"}, Replicas: s.cfg.Replicas,
				Discard: jetstream.DiscardNew, MaxBytes: cmp.Or(s.cfg.MaxBytes, -1), AllowDirect: true, Duplicates: 2 * time.Minute,
				Metadata: map[string]string{"keenlantern-format": format, "keenlantern-partitions": strconv.Itoa(s.cfg.Partitions)},
			})
		})
		if apiCode(err) == jetstream.JSErrCodeStreamNameInUse { // another service was quicker, with other settings
			st, err = again(ctx, s, find)
		}
	}
	if err != nil {
		return s.unprepared("batches", err)
	}
	s.batches = st
	if err := s.agree(st.CachedInfo()); err != nil {
		return err
	}
	if s.derived, err = again(ctx, s, func(ctx context.Context) (jetstream.Stream, error) {
		return s.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
			Name: name + "-derived", Description: "Keen Lantern: what was derived of streams", Subjects: []string{name + ".derived.>"}, Replicas: s.cfg.Replicas,
			MaxMsgsPerSubject: 1, AllowDirect: true,
		})
	}); err != nil {
		return s.unprepared("derived", err)
	}
	return nil
}

// agree holds what the log was begun with against this service's configuration.
func (s *Store) agree(info *jetstream.StreamInfo) error {
	of := info.Config.Metadata
	parts, err := strconv.Atoi(of["keenlantern-partitions"])
	switch {
	case of["keenlantern-format"] == "" || err != nil || parts < 1 || parts > MaxPartitions:
		return fmt.Errorf("the log has a stream %s that Keen Lantern has not made; --log-name gives this installation another name", info.Config.Name)
	case of["keenlantern-format"] != format:
		return fmt.Errorf("the log %s was begun by another version of keenlantern, whose form (%s) this one does not know (%s); start that version", s.cfg.Name, of["keenlantern-format"], format)
	case s.cfg.Partitions != 0 && s.cfg.Partitions != parts:
		return fmt.Errorf("the log %s has %d partitions, which cannot be changed, and --log-partitions says %d; leave it out", s.cfg.Name, parts, s.cfg.Partitions)
	case s.cfg.Replicas != 0 && s.cfg.Replicas != info.Config.Replicas:
		return fmt.Errorf("the log %s keeps %d replicas, and --log-replicas says %d; leave it out, or change its streams with the log's own tools", s.cfg.Name, info.Config.Replicas, s.cfg.Replicas)
	}
	s.cfg.Partitions, s.cfg.Replicas = parts, info.Config.Replicas
	if !info.TimeStamp.IsZero() {
		if off := s.cfg.Now().Sub(info.TimeStamp); off > clocksApart || off < -clocksApart {
			s.log.Warn("this machine's clock and the log's are far apart; times on pages and how long recordings are kept depend on each service's clock: set the clocks right", "apart", off.Round(time.Second))
		}
	}
	if s.cfg.MaxBytes != 0 && s.cfg.MaxBytes != info.Config.MaxBytes {
		cfg := info.Config
		cfg.MaxBytes = s.cfg.MaxBytes
		ctx, cancel := within(s.ctx)
		defer cancel()
		if _, err := s.js.UpdateStream(ctx, cfg); err != nil {
			return s.denied("bound the log", err)
		}
	}
	return s.remember(info)
}

// clocksApart is what two clocks may differ by before a warning.
const clocksApart = 30 * time.Second

// remember notes in the data folder which log it belongs to, and refuses another one.
func (s *Store) remember(info *jetstream.StreamInfo) error {
	if s.cfg.Folder == "" {
		return nil
	}
	this := s.cfg.Name + " begun " + info.Created.UTC().Format(time.RFC3339Nano)
	file := filepath.Join(s.cfg.Folder, "log")
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(text) == 0 {
		return os.WriteFile(file, []byte(this), 0o600)
	}
	if err != nil {
		return fmt.Errorf("read which log the data folder belongs to: %w", err)
	}
	if string(text) != this {
		return fmt.Errorf("the data folder belongs to another log (%s; this one is %s); name another folder with --data, or the right log with --log", text, this)
	}
	return nil
}

// unprepared returns why a part of the log cannot be made.
func (s *Store) unprepared(what string, err error) error {
	switch apiCode(err) {
	case codeReplicasAlone, codeNoPlace, codeNoResources:
		return fmt.Errorf("the log has too few servers, or too little room, for %d replicas (%w); add servers, or start with --log-replicas 1, where one server's loss loses recordings", s.cfg.Replicas, err)
	}
	return s.denied("prepare the log's "+what, err)
}

// denied adds to an error what the servers refused these credentials, if that is why no server answered.
func (s *Store) denied(what string, err error) error {
	if refused := s.refused.Load(); refused != nil && lost(err) {
		return fmt.Errorf("%s: the credentials do not suffice (%s); they have to allow %s.> and $JS.API.>, $KV.%s-*.> and _INBOX.>", what, strings.TrimPrefix(*refused, "nats: "), s.cfg.Name, s.cfg.Name)
	}
	return fmt.Errorf("%s: %w", what, err)
}

// mayPublish finds out whether this service may publish, before it is needed: a message for another stream is refused for
// that, if it comes so far.
func (s *Store) mayPublish(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	_, err := again(ctx, s, func(ctx context.Context) (*jetstream.PubAck, error) {
		return s.js.Publish(ctx, s.cfg.Name+".batch.none", nil, jetstream.WithExpectStream("none"), jetstream.WithRetryAttempts(0))
	})
	if apiCode(err) == codeNotThisStream {
		return nil
	}
	if err == nil {
		return fmt.Errorf("the log took a message that it should have refused; is %s a server of NATS?", s.conn.ConnectedUrlRedacted())
	}
	return s.denied("publish to the log", err)
}

// followTables opens the buckets. All of them are kept in files, so that their revisions go on when the servers were all stopped: rows
// are distinguished by them, and leases' epochs are theirs.
func (s *Store) followTables(ctx context.Context) error {
	bucket := func(name string, ttl time.Duration) (jetstream.KeyValue, error) {
		find := func(ctx context.Context) (jetstream.KeyValue, error) { return s.js.KeyValue(ctx, s.cfg.Name+"-"+name) }
		kv, err := again(ctx, s, find)
		if errors.Is(err, jetstream.ErrBucketNotFound) {
			kv, err = again(ctx, s, func(ctx context.Context) (jetstream.KeyValue, error) {
				return s.js.CreateKeyValue(ctx, jetstream.KeyValueConfig{
					Bucket: s.cfg.Name + "-" + name, TTL: ttl, Replicas: s.cfg.Replicas, LimitMarkerTTL: markerFor,
				})
			})
			if errors.Is(err, jetstream.ErrBucketExists) {
				kv, err = again(ctx, s, find)
			}
		}
		if err != nil {
			return nil, s.unprepared(name, err)
		}
		return kv, nil
	}
	leases, err := bucket("leases", cmp.Or(s.cfg.Lease, DefaultLease))
	if err != nil {
		return err
	}
	status, err := again(ctx, s, leases.Status)
	if err != nil {
		return s.denied("ask for the log's leases", err)
	}
	if s.cfg.Lease != 0 && s.cfg.Lease != status.TTL() {
		return fmt.Errorf("the leases of the log %s last %s, and --log-lease says %s; leave it out: they are the same for all services", s.cfg.Name, status.TTL(), s.cfg.Lease)
	}
	s.cfg.Lease = status.TTL()
	for _, b := range []struct {
		name  string
		ttl   time.Duration
		to    **table
		parse func(string, []byte) any
		heard func(string, row)
	}{
		{"catalog", 0, &s.catalog, parseCatalog, s.heardCatalog},
		{"leases", s.cfg.Lease, &s.leases, parseLease, nil},
		{"services", s.cfg.Lease, &s.services, parseService, nil},
		{"open", joinFor, &s.open, nil, nil},
	} {
		kv, err := bucket(b.name, b.ttl)
		if err != nil {
			return err
		}
		t, err := follow(ctx, kv, b.parse, b.heard)
		if err != nil {
			return err
		}
		*b.to = t
	}
	return nil
}

// Partitions returns how many there are.
func (s *Store) Partitions() int { return s.cfg.Partitions }

// ID returns the id of this service.
func (s *Store) ID() string { return s.id }

// Close gives everything back and disconnects.
func (s *Store) Close() error {
	s.ending.Lock()
	s.ended = true
	s.ending.Unlock()
	s.stop()
	s.wg.Wait()
	s.leave()
	for _, t := range []*table{s.catalog, s.leases, s.services, s.open} {
		if t != nil {
			t.close()
		}
	}
	if s.conn != nil {
		s.conn.Close()
	}
	if s.zip != nil {
		_ = s.zip.Close() // it has no writer
		s.unzip.Close()
	}
	if s.lock != nil {
		return s.lock.Unlock()
	}
	return nil
}
