package many_test

import (
	"fmt"
	"net/http"
	"os"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
	"keenlantern.example/internal/many"
)

// heavy skips what takes long unless it is asked for: make test-many.
func heavy(t *testing.T) {
	t.Helper()
	if os.Getenv("KEENLANTERN_MANY") != "heavy" {
		t.Skip("it takes minutes; make test-many runs it")
	}
}

// sendEvents sends so many events of an office in each of some streams, packed, and returns how many there were. The streams stay open.
func sendEvents(t *testing.T, urls []string, streams, events int) int64 {
	t.Helper()
	zip, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(t, err)
	var all sync.WaitGroup
	var mu sync.Mutex
	lines := int64(0)
	for k := range streams {
		all.Go(func() {
			o := load.NewOffice(fmt.Sprintf("large-%d", k+1), 20)
			mine := int64(0)
			for n := 1; mine < int64(events); n++ {
				body := slices.Clone(o.Requests(250))
				for _, c := range body {
					if c == '\n' {
						mine++
					}
				}
				_, err := load.Send(t.Context(), http.DefaultClient, load.Batch{URL: urls[(n+k)%len(urls)], Stream: fmt.Sprintf("large-%d", k+1), N: n, Body: zip.EncodeAll(body, nil), Encoding: "zstd"}, 5*time.Millisecond)
				if err != nil {
					t.Error(err)
					return
				}
			}
			mu.Lock()
			lines += mine
			mu.Unlock()
		})
	}
	all.Wait()
	return lines
}

// analysed waits until a service has so many lines of the latest recordings, and returns how long that took.
func analysed(t *testing.T, url string, lines int64) time.Duration {
	t.Helper()
	began := time.Now()
	require.Eventually(t, func() bool {
		var list views.RecordingList
		get(t, url+"/api/v1/recordings", &list)
		sum := int64(0)
		for _, r := range list.Recordings {
			sum += r.Health.Lines
		}
		return sum == lines
	}, 2*time.Minute, 20*time.Millisecond, "%s has all lines", url)
	return time.Since(began)
}

// TestTakeover tells how long it takes another service to have a partition with 10 million events behind it, when the one that worked
// on it is killed.
func TestTakeover(t *testing.T) {
	heavy(t)
	_, fleet := start(t, 3, 2, "--log-partitions", "1")
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	lines := sendEvents(t, fleet.URLs(), 1, 10_000_000)
	for _, url := range fleet.URLs() {
		analysed(t, url, lines)
	}
	worker := 0
	if worksOn(servicesAt(t, fleet.URL(0))) == 0 {
		worker = 1
	}
	fleet.Kill(worker)
	killed := time.Now()
	require.Eventually(t, func() bool { return worksOn(servicesAt(t, fleet.URL(1-worker))) == 1 }, time.Minute, 20*time.Millisecond)
	held := time.Since(killed)
	analysed(t, fleet.URL(1-worker), lines)
	t.Logf("%d events: the partition was another's %.1f s after the kill (the lease is %s), and all was answered after %.1f s", lines, held.Seconds(), lease, time.Since(killed).Seconds())
}

// TestCost tells the processor time per million events, end to end, of one process alone, and of one and three services with a log of
// one and three servers, by their roles.
func TestCost(t *testing.T) {
	heavy(t)
	bins, err := binaries()
	require.NoError(t, err)
	const streams, events = 8, 500_000
	alone, err := browser.Serve(bins[0], "serve", t.TempDir())
	require.NoError(t, err)
	before := many.CPU(alone.PID())
	lines := sendEvents(t, []string{alone.URL}, streams, events)
	analysed(t, alone.URL, lines)
	base := (many.CPU(alone.PID()) - before).Seconds() * 1e6 / float64(lines)
	t.Logf("one process alone: %.2f s of processor time per million events", base)
	require.NoError(t, alone.Stop())
	for _, n := range [][2]int{{1, 1}, {3, 1}, {3, 3}} {
		log, fleet := start(t, n[0], n[1])
		for _, url := range fleet.URLs() {
			ready(t, url)
		}
		cpu := func() (services time.Duration) {
			for k := range n[1] {
				services += many.CPU(fleet.PID(k))
			}
			return services
		}
		servicesBefore, logBefore := cpu(), log.CPU()
		lines := sendEvents(t, fleet.URLs(), streams, events)
		analysed(t, fleet.URL(0), lines)
		services, servers := (cpu()-servicesBefore).Seconds()*1e6/float64(lines), (log.CPU()-logBefore).Seconds()*1e6/float64(lines)
		t.Logf("%d servers of the log, %d services: %.2f s of the services, %.2f s of the log, %.2f times as much as one process alone", n[0], n[1], services, servers, (services+servers)/base)
		fleet.Stop()
		log.Stop()
	}
}
