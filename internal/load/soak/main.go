// Command soak runs the built service under load for a while, ends it and kills it again and again, and checks that
// nothing is lost and memory stays flat. With -events it measures instead: how much memory so many events take, and how
// long a restart does.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
)

func main() {
	s := &soak{client: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}}
	flag.DurationVar(&s.last, "for", 10*time.Minute, "how long to soak")
	flag.IntVar(&s.streams, "streams", 8, "how many streams at once")
	flag.IntVar(&s.rate, "rate", 200, "soak: requests a second of each stream, a dozen events each")
	flag.IntVar(&s.open, "open", 20, "scopes of each stream that stay open throughout")
	flag.DurationVar(&s.restart, "restart", 40*time.Second, "soak: how often the service is ended or killed")
	events := flag.Int("events", 0, "measure so many events instead, as fast as they are taken")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := s.run(ctx, *events); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

type soak struct {
	last, restart       time.Duration
	streams, rate, open int

	bin, data, address string
	client             *http.Client
	service            *browser.Service
	mu                 sync.Mutex // held while the service is down
}

func (s *soak) url(path string) string { return "http://" + s.address + path }

func (s *soak) run(ctx context.Context, events int) error {
	folder, err := os.MkdirTemp("", "keenlantern-soak-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	if s.bin, err = browser.Build(folder); err != nil {
		return err
	}
	s.data = filepath.Join(folder, "data")
	// The port has to stay the same over restarts.
	probe, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	s.address = probe.Addr().String()
	if err := probe.Close(); err != nil {
		return err
	}
	if err := s.start(); err != nil {
		return err
	}
	defer func() { s.service.Kill() }()
	if events > 0 {
		return s.measure(ctx, events)
	}
	return s.soak(ctx)
}

func (s *soak) start(args ...string) (err error) {
	s.service, err = browser.Serve(s.bin, "serve", s.data, append([]string{"--listen", s.address}, args...)...)
	return err
}

func (s *soak) put(ctx context.Context, stream string, n int, batch []byte) (putOff int, err error) {
	return load.Send(ctx, s.client, load.Batch{URL: s.url(""), Stream: stream, N: n, Body: batch}, 10*time.Millisecond)
}

func (s *soak) get(ctx context.Context, path string, into any) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url(path), nil)
	if err != nil {
		return err
	}
	res, err := s.client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if res.StatusCode != http.StatusOK {
		return &refused{path, res.StatusCode, string(body)}
	}
	return json.Unmarshal(body, into)
}

// refused is an answer that is none.
type refused struct {
	path   string
	status int
	body   string
}

func (r *refused) Error() string { return fmt.Sprintf("%s: %d: %.300s", r.path, r.status, r.body) }

// soak is the soak itself.
func (s *soak) soak(ctx context.Context) error {
	began := time.Now()
	var events, putOff, answers, lines atomic.Int64
	working, done := context.WithCancel(ctx)
	defer done()
	var others errgroup.Group
	others.Go(func() error { return s.restarts(working) })
	memory := &samples{}
	others.Go(func() error { return s.sample(working, memory) })
	took := &samples{}
	for k := range 3 {
		others.Go(func() error { return s.view(working, uint64(k), took, &answers) })
	}
	for range 4 {
		others.Go(func() error { return s.listen(working, &lines) })
	}
	want := make([]*engine.Result, s.streams)
	var senders errgroup.Group
	for k := range s.streams {
		senders.Go(func() error {
			name := fmt.Sprintf("soak-%d", k)
			office := load.NewOffice(name, s.open)
			local := engine.NewLive(rules.Default(), nil)
			in, line := reader.New(nil, reader.Options{}), int64(0)
			const step = 500
			tick := time.NewTicker(time.Second * step / time.Duration(s.rate))
			defer tick.Stop()
			for n := 1; ; n++ {
				over := time.Since(began) > s.last
				batch := office.Requests(step)
				if over {
					batch = office.End()
				}
				late, err := s.put(ctx, name, n, batch)
				if err != nil {
					return err
				}
				putOff.Add(int64(late))
				in.ResetTo(batch, line+1)
				for {
					l, err := in.Next()
					if err != nil {
						break
					}
					line++
					local.Put(l)
				}
				if over {
					events.Add(line)
					local.Finish()
					want[k] = local.Result()
					return nil
				}
				<-tick.C
			}
		})
	}
	if err := senders.Wait(); err != nil {
		return err
	}
	done()
	if err := others.Wait(); err != nil {
		return err
	}
	if err := s.compare(ctx, want); err != nil {
		return err
	}
	fmt.Printf("%s: %.1f M events of %d streams taken, %d rejected for now; %d views answered, 95 of 100 within %.0f ms; %d lines heard by listeners\n",
		time.Since(began).Round(time.Second), float64(events.Load())/1e6, s.streams, putOff.Load(), answers.Load(), took.at(95), lines.Load())
	fmt.Printf("resident memory: at most %.0f MB in the first third, %.0f MB in the second, %.0f MB in the last\n", memory.most(0, 3), memory.most(1, 3), memory.most(2, 3))
	fmt.Println("every event was counted once, and what was found is what was found without a stop")
	if first, last := memory.most(0, 3), memory.most(2, 3); last > 1.5*first {
		return fmt.Errorf("memory is not flat: %.0f MB at first, %.0f MB in the end", first, last)
	}
	return nil
}

// compare holds what the service found against want.
func (s *soak) compare(ctx context.Context, want []*engine.Result) error {
	if err := s.restartNow(false); err != nil {
		return err
	}
	var list views.RecordingList
	if err := s.get(ctx, "/api/v1/recordings", &list); err != nil {
		return err
	}
	for _, rec := range list.Recordings {
		var found views.RecordingFindings
		for wait := time.Now(); ; time.Sleep(100 * time.Millisecond) {
			if err := s.get(ctx, "/api/v1/recordings/"+rec.ID+"/findings", &found); err != nil {
				return err
			}
			if !slices.ContainsFunc(found.Streams, func(i engine.Info) bool { return !i.Ended }) {
				break
			}
			if time.Since(wait) > time.Minute {
				return fmt.Errorf("recording %s has not ended after a minute", rec.ID)
			}
		}
		mine := []*engine.Result{}
		for _, info := range found.Streams {
			for n, w := range want {
				if w != nil && w.Streams[0].Stream == info.Stream {
					mine, want[n] = append(mine, w), nil
				}
			}
		}
		merged := engine.Merge(mine)
		for _, f := range merged.Findings {
			for n := range f.Examples {
				f.Examples[n].Evidence = nil // a list leaves it to the finding's own page
			}
		}
		for _, pair := range [][2]any{{merged.Streams, found.Streams}, {merged.Findings, found.Findings}} {
			a, err := json.Marshal(pair[0])
			if err != nil {
				return err
			}
			b, err := json.Marshal(pair[1])
			if err != nil {
				return err
			}
			if !bytes.Equal(a, b) {
				return fmt.Errorf("recording %s is not what it was without a stop:\n%.2000s\n%.2000s", rec.ID, a, b)
			}
		}
	}
	for _, w := range want {
		if w != nil {
			return fmt.Errorf("stream %s is in no recording", w.Streams[0].Stream)
		}
	}
	return nil
}

// restarts ends the service in order and kills it, alternately.
func (s *soak) restarts(ctx context.Context) error {
	for kill := false; ; kill = !kill {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(s.restart):
		}
		if err := s.restartNow(kill); err != nil {
			return err
		}
	}
}

func (s *soak) restartNow(kill bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if kill {
		s.service.Kill()
		return s.start()
	}
	from := time.Now()
	if err := s.service.Stop(); err != nil {
		return fmt.Errorf("end the service in order: %w", err)
	}
	if took := time.Since(from); took > 10*time.Second {
		return fmt.Errorf("the service took %s to end", took)
	}
	return s.start()
}

// view asks for views of what is being recorded.
func (s *soak) view(ctx context.Context, seed uint64, took *samples, answers *atomic.Int64) error {
	random := rand.New(rand.NewPCG(seed, 1))
	paths := []string{
		"findings", "registrations", "graph", "disposal", "keys", "layers", "costs", "scopes?limit=50", "scopes?order=longest&limit=50",
		"sharing?last=20&name=GET%20/office/01",
	}
	for ctx.Err() == nil {
		from := time.Now()
		var any json.RawMessage
		err := s.get(ctx, "/api/v1/recordings/latest/"+paths[random.IntN(len(paths))], &any)
		var no *refused
		switch {
		case err == nil:
			took.add(float64(time.Since(from).Microseconds()) / 1e3)
			answers.Add(1)
		case errors.As(err, &no) && no.status != http.StatusNotFound && no.status < 500:
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return nil
}

// listen listens to what is new, again after every restart.
func (s *soak) listen(ctx context.Context, lines *atomic.Int64) error {
	client := &http.Client{}
	buffer := make([]byte, 4096)
	for ctx.Err() == nil {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.url("/api/v1/live"), nil)
		if err != nil {
			return err
		}
		res, err := client.Do(req)
		if err != nil {
			time.Sleep(100 * time.Millisecond)
			continue
		}
		for err == nil {
			var n int
			n, err = res.Body.Read(buffer)
			lines.Add(int64(bytes.Count(buffer[:n], []byte("\n\n"))))
		}
		res.Body.Close()
	}
	return nil
}

// measure sends so many events as fast as they are taken, and restarts.
func (s *soak) measure(ctx context.Context, events int) error {
	requests := events / load.EventsEach / s.streams
	began := time.Now()
	memory := &samples{}
	watching, stop := context.WithCancel(ctx)
	defer stop()
	go func() { _ = s.sample(watching, memory) }()
	var senders errgroup.Group
	senders.SetLimit(s.streams)
	offices := make([]*load.Office, s.streams)
	batches := make([]int, s.streams)
	for k := range offices {
		offices[k] = load.NewOffice(fmt.Sprintf("many-%d", k), s.open/s.streams)
		senders.Go(func() error {
			for left := requests; left > 0; left -= 2000 {
				batches[k]++
				if _, err := s.put(ctx, fmt.Sprintf("many-%d", k), batches[k], offices[k].Requests(min(left, 2000))); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err := senders.Wait(); err != nil {
		return err
	}
	if err := s.analysed(ctx, int64(events)*98/100); err != nil {
		return err
	}
	ingest := time.Since(began)
	stop()
	fmt.Printf("%d M events of %d streams, %d scopes open: taken and analysed in %.1f s, resident memory at most %.0f MB\n",
		events/1e6, s.streams, s.open/s.streams*s.streams, ingest.Seconds(), memory.most(0, 1))
	from := time.Now()
	if err := s.service.Stop(); err != nil {
		return err
	}
	fmt.Printf("ended in order in %.2f s\n", time.Since(from).Seconds())
	// The next batch of each stream is taken when the service has what was before it.
	next := func(what string, args ...string) (time.Duration, error) {
		from := time.Now()
		if err := s.start(args...); err != nil {
			return 0, err
		}
		var senders errgroup.Group
		for k := range offices {
			senders.Go(func() error {
				batches[k]++
				_, err := s.put(ctx, fmt.Sprintf("many-%d", k), batches[k], offices[k].Requests(10))
				return err
			})
		}
		if err := senders.Wait(); err != nil {
			return 0, err
		}
		took := time.Since(from)
		fmt.Printf("%s: %.2f s until the next batch was taken\n", what, took.Seconds())
		return took, nil
	}
	kept, err := next("restart from checkpoints")
	if err != nil {
		return err
	}
	if err := s.service.Stop(); err != nil {
		return err
	}
	// Other settings: what is kept cannot be used.
	other := filepath.Join(s.data, "other.yaml")
	if err := os.WriteFile(other, []byte("pile_in_root: 11\n"), 0o600); err != nil {
		return err
	}
	whole, err := next("restart with all read again", "--settings", other)
	if err != nil {
		return err
	}
	fmt.Printf("a restart takes 1/%.0f of the analysis\n", whole.Seconds()/kept.Seconds())
	return nil
}

// analysed waits until the latest recording shows so many events.
func (s *soak) analysed(ctx context.Context, events int64) error {
	for wait := time.Now(); time.Since(wait) < 5*time.Minute; time.Sleep(20 * time.Millisecond) {
		var list views.RecordingList
		if err := s.get(ctx, "/api/v1/recordings", &list); err != nil {
			return err
		}
		if len(list.Recordings) > 0 && list.Recordings[0].Figures.Events >= events {
			return nil
		}
	}
	return fmt.Errorf("%d events were not analysed within five minutes", events)
}
