package many_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/reader"
	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
	"keenlantern.example/internal/many"
)

// lease is how long services of tests keep the partitions of one that is gone.
const lease = "3s"

// binaries are built once for all tests.
var binaries = sync.OnceValues(func() (bins [2]string, err error) {
	folder, err := os.MkdirTemp("", "keenlantern-many-*")
	if err != nil {
		return bins, err
	}
	built = folder
	if bins[0], err = browser.Build(folder); err != nil {
		return bins, err
	}
	bins[1], err = many.BuildLog(folder)
	return bins, err
})

var built string

func TestMain(m *testing.M) {
	code := m.Run()
	if built != "" {
		os.RemoveAll(built)
	}
	os.Exit(code)
}

// start starts so many servers of a log and so many services, with leases that end soon.
func start(t *testing.T, servers, services int, args ...string) (*many.Log, *many.Fleet) {
	t.Helper()
	return startWith(t, servers, services, append([]string{"--log-lease", lease, "--log-partitions", "16"}, args...)...)
}

func startWith(t *testing.T, servers, services int, args ...string) (*many.Log, *many.Fleet) {
	t.Helper()
	if testing.Short() {
		t.Skip("it starts and kills processes")
	}
	bins, err := binaries()
	require.NoError(t, err)
	folder := t.TempDir()
	log, err := many.StartLog(bins[1], folder, servers)
	require.NoError(t, err)
	t.Cleanup(log.Stop)
	fleet, err := many.StartFleet(bins[0], folder, log, services, append([]string{"--log-replicas", fmt.Sprint(servers)}, args...)...)
	require.NoError(t, err)
	t.Cleanup(fleet.Stop)
	return log, fleet
}

// send sends a stream's batches in order, each to another service until one acknowledges it, whatever happens to them meanwhile.
func send(ctx context.Context, urls []string, stream string, batches []string, pause time.Duration) error {
	client := &http.Client{Timeout: 15 * time.Second}
	for n, batch := range batches {
		for try := rand.IntN(len(urls)); ; try++ {
			one, cancel := context.WithTimeout(ctx, 400*time.Millisecond)
			_, err := load.Send(one, client, load.Batch{URL: urls[try%len(urls)], Stream: stream, N: n + 1, Body: []byte(batch)}, 20*time.Millisecond)
			timedOut := one.Err() != nil
			cancel()
			if err == nil {
				break
			}
			if ctx.Err() != nil || !timedOut {
				return err
			}
		}
		time.Sleep(pause)
	}
	return nil
}

// get asks until there is an answer, since services may be between two.
func get(t *testing.T, url string, into any) {
	t.Helper()
	var status int
	var text bytes.Buffer
	require.Eventually(t, func() bool {
		res, err := http.Get(url)
		if err != nil {
			return false
		}
		defer res.Body.Close()
		text.Reset()
		_, err = text.ReadFrom(res.Body)
		status = res.StatusCode
		return err == nil && status != http.StatusServiceUnavailable
	}, 30*time.Second, 100*time.Millisecond, "%s answers %d: %s", url, status, &text)
	require.Equal(t, http.StatusOK, status, "%s: %s", url, &text)
	require.NoError(t, json.Unmarshal(text.Bytes(), into), url)
}

// senders send so many streams of some requests each, and return what an undisturbed analysis of each finds.
type senders struct {
	want map[string]*engine.Result
	wg   sync.WaitGroup
	left atomic.Int64
	errs chan error
}

func sendAll(t *testing.T, urls []string, streams, requests int, pause time.Duration) *senders {
	t.Helper()
	s := &senders{want: map[string]*engine.Result{}, errs: make(chan error, streams)}
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Minute)
	t.Cleanup(cancel)
	for k := range streams {
		stream := fmt.Sprintf("harbour-%d", k+1)
		batches := load.Leaky(stream, requests+5*k)
		want, err := engine.Analyse(ctx, strings.NewReader(strings.Join(batches, "")), reader.Options{}, rules.Default())
		require.NoError(t, err)
		s.want[stream] = want
		s.left.Add(1)
		s.wg.Go(func() {
			defer s.left.Add(-1)
			if err := send(ctx, urls, stream, batches, pause); err != nil {
				s.errs <- err
			}
		})
	}
	return s
}

// wait waits for all to be sent.
func (s *senders) wait(t *testing.T) {
	t.Helper()
	s.wg.Wait()
	select {
	case err := <-s.errs:
		require.NoError(t, err)
	default:
	}
}

// holds checks that a service knows all streams to their ends, and of each just what an undisturbed analysis finds.
func (s *senders) holds(t *testing.T, url string) {
	t.Helper()
	seen := map[string]engine.Info{}
	leaks := int64(0)
	var problem string
	require.Eventually(t, func() bool {
		clear(seen)
		leaks = 0
		var list views.RecordingList
		get(t, url+"/api/v1/recordings?limit=500", &list)
		for _, r := range list.Recordings {
			var found views.RecordingFindings
			get(t, url+"/api/v1/recordings/"+r.ID+"/findings", &found)
			for _, one := range found.Streams {
				seen[one.Stream] = one
			}
			for _, f := range found.Findings {
				leaks += f.Counts["instances"]
			}
		}
		for name := range s.want {
			if !seen[name].Ended {
				problem = fmt.Sprintf("%s has not ended: %+v", name, seen[name])
				return false
			}
		}
		return true
	}, 60*time.Second, 200*time.Millisecond, "all is analysed at %s: %s", url, &problem)
	wanted := int64(0)
	for name, want := range s.want {
		assert.Equal(t, want.Streams[0], seen[name], "stream %s at %s", name, url)
		wanted += want.Findings[0].Counts["instances"]
	}
	assert.Len(t, seen, len(s.want), url)
	assert.Equal(t, wanted, leaks, "leaks at %s", url)
}

// ready waits until all partitions are worked on.
func ready(t *testing.T, url string) {
	t.Helper()
	require.Eventually(t, func() bool {
		res, err := http.Get(url + "/readyz")
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusOK
	}, 40*time.Second, 100*time.Millisecond, "%s is ready", url)
}

// TestKilled has three services take what many send, kills one of them, one of the log's servers, and both, and checks that in the end
// each stream's figures, health and findings are those of one undisturbed process, at each of the services.
func TestKilled(t *testing.T) {
	log, fleet := start(t, 3, 3)
	ready(t, fleet.URL(0))
	rounds, streams, requests := 1, 8, 1500
	if isHeavy() {
		rounds, streams, requests = 20, 40, 15000
	}
	s := sendAll(t, fleet.URLs(), streams, requests, 15*time.Millisecond)
	rest := func() { time.Sleep(time.Duration(500+rand.IntN(1000)) * time.Millisecond) }
	kills := 0
	for round := range rounds {
		for _, what := range []string{"service", "log", "both"} {
			if s.left.Load() == 0 {
				break
			}
			k := (round + kills) % 3
			kills++
			if what != "log" {
				fleet.Kill(k)
			}
			if what != "service" {
				log.Kill(k)
			}
			rest()
			if what != "service" {
				require.NoError(t, log.Start(k))
			}
			if what != "log" {
				require.NoError(t, fleet.Start(k))
			}
			rest()
		}
	}
	assert.GreaterOrEqual(t, kills, 3, "all was killed while it was at work")
	s.wait(t)
	for _, url := range fleet.URLs() {
		ready(t, url)
		s.holds(t, url)
	}
}

// TestOneKilledAgain kills one of two services ten times in a row: it comes back each time, and no result differs.
func TestOneKilledAgain(t *testing.T) {
	_, fleet := startWith(t, 1, 2, "--log-partitions", "64")
	ready(t, fleet.URL(0))
	s := sendAll(t, fleet.URLs()[1:], 4, 400, 20*time.Millisecond)
	for range 10 {
		fleet.Kill(0)
		require.NoError(t, fleet.Start(0))
		time.Sleep(time.Duration(200+rand.IntN(400)) * time.Millisecond)
	}
	s.wait(t)
	for _, url := range fleet.URLs() {
		ready(t, url)
		s.holds(t, url)
	}
}

// TestLogRestarted kills all servers of a log at once while many send, and starts them again. Services put senders off meanwhile, and go
// on by themselves.
func TestLogRestarted(t *testing.T) {
	for _, servers := range []int{1, 3} {
		if servers > 1 && !isHeavy() {
			continue
		}
		t.Run(fmt.Sprint(servers, " servers"), func(t *testing.T) {
			log, fleet := start(t, servers, 2)
			for _, url := range fleet.URLs() {
				ready(t, url)
			}
			s := sendAll(t, fleet.URLs(), 4, 1200, 10*time.Millisecond)
			time.Sleep(time.Second)
			log.Stop()
			time.Sleep(4 * time.Second) // the leases end
			res, err := http.Get(fleet.URL(0) + "/readyz")
			require.NoError(t, err)
			res.Body.Close()
			assert.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
			for k := range servers {
				require.NoError(t, log.Start(k))
			}
			s.wait(t)
			for _, url := range fleet.URLs() {
				ready(t, url)
				s.holds(t, url)
			}
		})
	}
}

// servicesAt returns what a service says of all of them.
func servicesAt(t *testing.T, url string) (list views.ServiceList) {
	t.Helper()
	get(t, url+"/api/v1/services", &list)
	return list
}

// worksOn returns how many partitions the service that is asked works on.
func worksOn(list views.ServiceList) int {
	for _, s := range list.Services {
		if s.This {
			return len(s.Partitions)
		}
	}
	return 0
}

// TestCutOff cuts one of three services off from the log while many send, and has another one stand still, longer than their leases
// hold: others take over what they worked on. What they had under way arrives when they are back, and changes nothing: each stream is
// what one undisturbed process makes of it, and no service works on another's streams.
func TestCutOff(t *testing.T) {
	_, fleet := start(t, 3, 3)
	wires, err := fleet.Wire(0)
	require.NoError(t, err)
	defer wires.Close()
	fleet.Kill(0)
	require.NoError(t, fleet.Start(0))
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	require.Eventually(t, func() bool { return worksOn(servicesAt(t, fleet.URL(0))) > 0 }, 20*time.Second, 100*time.Millisecond)
	s := sendAll(t, fleet.URLs(), 8, 1500, 15*time.Millisecond)
	time.Sleep(time.Second)

	wires.Cut()
	// A service that is cut off reports that rather than answering from what it knew, and rejects batches with Retry-After.
	require.Eventually(t, func() bool {
		res, err := http.Get(fleet.URL(0) + "/readyz")
		if err != nil {
			return false
		}
		res.Body.Close()
		return res.StatusCode == http.StatusServiceUnavailable
	}, 10*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { return len(servicesAt(t, fleet.URL(1)).Services) == 2 }, 20*time.Second, 50*time.Millisecond)
	ready(t, fleet.URL(1))
	wires.Mend()

	require.NoError(t, fleet.Pause(1))
	time.Sleep(6 * time.Second)
	require.NoError(t, fleet.Resume(1))
	s.wait(t)
	for _, url := range fleet.URLs() {
		ready(t, url)
		s.holds(t, url)
	}
	// Each partition is one service's.
	require.Eventually(t, func() bool {
		all := 0
		for _, url := range fleet.URLs() {
			all += worksOn(servicesAt(t, url))
		}
		return all == 16
	}, 20*time.Second, 100*time.Millisecond)
}
