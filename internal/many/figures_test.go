package many_test

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/load"
	"keenlantern.example/internal/many"
)

func isHeavy() bool { return os.Getenv("KEENLANTERN_MANY") == "heavy" }

// heavy skips what takes long unless it is asked for: make test-many.
func heavy(t *testing.T) {
	t.Helper()
	if !isHeavy() {
		t.Skip("it takes minutes; make test-many runs it")
	}
}

// sent is what sendEvents sends.
type sent struct {
	shape           load.Shape
	streams, events int  // events in each
	anywhere        bool // each batch goes to another service, rather than each stream to one
}

// sendEvents sends streams, packed, and returns how many lines there were. The streams stay open.
func sendEvents(t *testing.T, urls []string, s sent) int64 {
	t.Helper()
	zip, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(t, err)
	var all sync.WaitGroup
	var lines atomic.Int64
	for k := range s.streams {
		all.Go(func() {
			stream := fmt.Sprintf("large-%d", k+1)
			w := s.shape.New(stream, 20)
			var body []byte
			mine := 0
			for n := 1; mine < s.events; n++ {
				body = body[:0]
				for len(body) < fullBatch {
					body = append(body, w.Requests(max(1, 100/s.shape.Each))...)
				}
				mine += bytes.Count(body, []byte{'\n'})
				to := k
				if s.anywhere {
					to = k + n
				}
				batch := load.Batch{URL: urls[to%len(urls)], Stream: stream, N: n, Body: zip.EncodeAll(body, nil), Encoding: "zstd"}
				if _, err := load.Send(t.Context(), http.DefaultClient, batch, 5*time.Millisecond); err != nil {
					t.Error(err)
					return
				}
			}
			lines.Add(int64(mine))
		})
	}
	all.Wait()
	return lines.Load()
}

// fullBatch is what recorders send at once, in bytes of lines, where there is much to send.
const fullBatch = 1 << 20

// analysed waits until a service has so many lines of the latest recordings, and returns how long that took. It asks once in a while,
// which is work for all services.
func analysed(t *testing.T, url string, lines int64, every time.Duration) time.Duration {
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
	}, 2*time.Minute, every, "%s has all lines", url)
	return time.Since(began)
}

// TestTakeover measures how long it takes another service to have a partition with 10 million events behind it, when the one that worked
// on it is killed.
func TestTakeover(t *testing.T) {
	heavy(t)
	_, fleet := start(t, 3, 2, "--log-partitions", "1")
	for _, url := range fleet.URLs() {
		ready(t, url)
	}
	lines := sendEvents(t, fleet.URLs(), sent{load.Shapes[0], 1, 10_000_000, true})
	for _, url := range fleet.URLs() {
		analysed(t, url, lines, 200*time.Millisecond)
	}
	worker := 0
	if worksOn(servicesAt(t, fleet.URL(0))) == 0 {
		worker = 1
	}
	fleet.Kill(worker)
	killed := time.Now()
	require.Eventually(t, func() bool { return worksOn(servicesAt(t, fleet.URL(1-worker))) == 1 }, time.Minute, 20*time.Millisecond)
	held := time.Since(killed)
	analysed(t, fleet.URL(1-worker), lines, 20*time.Millisecond)
	t.Logf("%d events: the partition was another's %.1f s after the kill (the lease is %s), and all was answered after %.1f s", lines, held.Seconds(), lease, time.Since(killed).Seconds())
}

// TestCost measures the processor time per million events, end to end, of one process alone, and of one and three services with a log of
// one and three servers, by their roles. The one alone runs before and after each, as a machine is not as fast all the time.
func TestCost(t *testing.T) {
	heavy(t)
	bins, err := binaries()
	require.NoError(t, err)
	each := func(d time.Duration, lines int64) float64 { return d.Seconds() * 1e6 / float64(lines) }
	for _, shape := range load.Shapes[:2] {
		s := sent{shape: shape, streams: 8, events: 500_000}
		alone := func() float64 {
			one, err := browser.Serve(bins[0], "serve", t.TempDir())
			require.NoError(t, err)
			before := many.CPU(one.PID())
			s.anywhere = false
			lines := sendEvents(t, []string{one.URL}, s)
			analysed(t, one.URL, lines, 200*time.Millisecond)
			took := many.CPU(one.PID()) - before
			require.NoError(t, one.Stop())
			return each(took, lines)
		}
		before := alone()
		for _, c := range []struct {
			servers, services int
			anywhere          bool
		}{{1, 1, false}, {1, 3, false}, {3, 1, false}, {3, 3, false}, {3, 3, true}} {
			log, fleet := startWith(t, c.servers, c.services, "--log-lease", "10s")
			for _, url := range fleet.URLs() {
				ready(t, url)
			}
			cpu := func() (services time.Duration) {
				for k := range c.services {
					services += many.CPU(fleet.PID(k))
				}
				return services
			}
			servicesBefore, logBefore := cpu(), log.CPU()
			s.anywhere = c.anywhere
			lines := sendEvents(t, fleet.URLs(), s)
			analysed(t, fleet.URL(0), lines, 200*time.Millisecond)
			services, servers := each(cpu()-servicesBefore, lines), each(log.CPU()-logBefore, lines)
			fleet.Stop()
			log.Stop()
			after := alone()
			base := (before + after) / 2
			t.Logf("%s: %d servers of the log, %d services, each batch to another service: %t: %.2f s of the services, %.2f s of the log, %.2f s of one process alone: %.2f times",
				shape.Name, c.servers, c.services, c.anywhere, services, servers, base, (services+servers)/base)
			before = after
		}
	}
}
