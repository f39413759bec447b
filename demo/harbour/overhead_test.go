package harbour_test

import (
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"keenlantern.example/demo/harbour"
	"keenlantern.example/record"
)

// BenchmarkOverhead measures what recording costs the office's requests: without a recorder, with one that is off, fully on, and
// with one scope in ten, each in short turns so that a busy machine is as busy for all. It reports the median and the 99th
// percentile of a request and the requests a second, as ratios to those without a recorder, in one run: 'make overhead'.
func BenchmarkOverhead(b *testing.B) {
	modes := []struct {
		name    string
		setting record.Setting
		off     bool
	}{{"plain", record.Setting{}, true}, {"off", record.Setting{}, true}, {"on", record.Setting{}, false}, {"a-tenth", record.Setting{Share: 0.1}, false}}
	offices := make([]*harbour.Office, len(modes))
	for n, m := range modes {
		rec, err := record.Start(record.Config{App: "harbour-office", Output: io.Discard, Off: m.off, Setting: m.setting})
		require.NoError(b, err)
		if m.name == "plain" {
			require.NoError(b, rec.Close(context.Background()))
			rec = nil
		}
		office, err := harbour.Start(rec, nil)
		require.NoError(b, err)
		offices[n] = office
		b.Cleanup(func() {
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			require.NoError(b, errors.Join(office.Close(ctx), rec.Close(ctx)))
		})
	}
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 4}}
	took := make([][]time.Duration, len(modes))
	spent := make([]time.Duration, len(modes))
	turn := func(n int, count bool) {
		for k := range turnOf {
			began := time.Now()
			res, err := client.Get(offices[n].URL + []string{"/berths", "/pilots", "/tides/outer-bar"}[k%3])
			require.NoError(b, err)
			_, err = io.Copy(io.Discard, res.Body)
			require.NoError(b, errors.Join(err, res.Body.Close()))
			if count {
				took[n] = append(took[n], time.Since(began))
				spent[n] += time.Since(began)
			}
		}
	}
	for n := range modes {
		turn(n, false)
	}
	for b.Loop() {
		for n := range modes {
			turn(n, true)
		}
	}
	at := func(n int, part float64) float64 {
		return float64(took[n][int(part*float64(len(took[n])-1))])
	}
	for n := range modes {
		slices.Sort(took[n])
	}
	b.ReportMetric(at(0, 0.5)/1e3, "plain-median-us")
	b.ReportMetric(at(0, 0.99)/1e3, "plain-p99-us")
	for n := 1; n < len(modes); n++ {
		b.ReportMetric(at(n, 0.5)/at(0, 0.5), modes[n].name+"-median-ratio")
		b.ReportMetric(at(n, 0.99)/at(0, 0.99), modes[n].name+"-p99-ratio")
		b.ReportMetric(float64(spent[0])/float64(spent[n]), modes[n].name+"-throughput-ratio")
	}
}

// turnOf is how many requests one turn has.
const turnOf = 30
