package service_test

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/load"
	"keenlantern.example/internal/service"
	"keenlantern.example/internal/store/sqlite"
)

// office writes a trace of so many requests.
func office(out io.Writer, requests int) error {
	o := load.NewOffice("busy-1", 0)
	for n := range requests {
		if n%1000 == 999 {
			if _, err := out.Write(o.Requests(1000)); err != nil {
				return err
			}
		}
	}
	if _, err := out.Write(o.Requests(requests % 1000)); err != nil {
		return err
	}
	_, err := out.Write(o.End())
	return err
}

// BenchmarkViews asks every view of a recording of 1 million and of 10 million events, with parameters that keep
// changing, and reports the 95th percentile of their answers.
func BenchmarkViews(b *testing.B) {
	slowest := map[string]map[int]time.Duration{}
	for _, millions := range []int{1, 10} {
		b.Run(fmt.Sprintf("%dM-events", millions), func(b *testing.B) {
			log := slog.New(slog.DiscardHandler)
			st, err := sqlite.Open(b.Context(), b.TempDir())
			require.NoError(b, err)
			defer st.Close()
			hub := ingest.New(st, rules.Default(), log)
			defer hub.Close()
			h, err := service.New(service.Config{Hub: hub, Log: log, Console: fstest.MapFS{"index.html": {Data: []byte("c")}}})
			require.NoError(b, err)
			requests := millions * 1_000_000 / 12
			in, out := io.Pipe()
			go func() { out.CloseWithError(office(out, requests)) }()
			_, err = hub.PutFile(b.Context(), in, 1<<40)
			require.NoError(b, err)
			all := map[string][]time.Duration{}
			ask := func(view, query string) {
				from := time.Now()
				req := httptest.NewRequest(http.MethodGet, "/api/v1/recordings/latest/"+query, nil)
				req.Host = "127.0.0.1"
				res := httptest.NewRecorder()
				h.ServeHTTP(res, req)
				all[view] = append(all[view], time.Since(from))
				require.Equal(b, http.StatusOK, res.Code, "%s: %s", query, res.Body)
				if view == "scopes" {
					var l views.ScopeList
					require.NoError(b, json.Unmarshal(res.Body.Bytes(), &l))
					require.NotEmpty(b, l.Scopes, query)
				}
			}
			n := 0
			for b.Loop() {
				n++
				at := n * 7919 % requests
				name := fmt.Sprintf("GET%%20/office/%02d", at*at%40)
				ask("registrations", fmt.Sprintf("registrations?service=Service%d", n%6))
				ask("graph", "graph")
				ask("disposal", "disposal")
				ask("keys", "keys?all=true")
				ask("layers", "layers")
				ask("costs", "costs")
				ask("scopes", fmt.Sprintf("scopes?since_ns=%d&limit=50", at*100_000))
				ask("scopes", "scopes?limit=50&name="+name)
				ask("scopes", "scopes?limit=50&order=longest")
				ask("scopes", "scopes?limit=50&findings=true")
				ask("scope", fmt.Sprintf("scopes/%d", at+1))
				ask("sharing", "sharing?last=20&name="+name)
			}
			together := []time.Duration{}
			for view, list := range all {
				slices.Sort(list)
				together = append(together, list...)
				if slowest[view] == nil {
					slowest[view] = map[int]time.Duration{}
				}
				slowest[view][millions] = list[len(list)*95/100]
			}
			slices.SortFunc(together, cmp.Compare)
			b.ReportMetric(together[len(together)*95/100].Seconds()*1e3, "p95-ms")
			for view, p := range slowest {
				b.ReportMetric(p[millions].Seconds()*1e3, view+"-p95-ms")
			}
		})
	}
}

// BenchmarkIngest measures (a) durable ingest over HTTP with analysis on, four recorders at once, plain and zstd, against
// (b) the same events as rows inserted into SQLite through the same driver, prepared, 20,000 a transaction, WAL, and (c)
// encoding/json decoding the same lines. It reports events a second of each, the processor time that one takes, which other
// work on the machine changes less, and the stored size as a part of the lines'.
func BenchmarkIngest(b *testing.B) {
	const senders, requests, fullBatch = 4, 60_000, 1 << 20 // the last is what recorders send at once
	batches := make([][][]byte, senders)
	var all []byte
	events := 0
	for n := range batches {
		var text bytes.Buffer
		require.NoError(b, office(&text, requests))
		one := bytes.Replace(text.Bytes(), []byte("busy-1"), fmt.Appendf(nil, "busy-%d", n), 1)
		if n == 0 {
			all = bytes.Clone(one)
		}
		events += bytes.Count(one, []byte{'\n'})
		for len(one) > 0 {
			end := len(one)
			if end > fullBatch {
				end = bytes.LastIndexByte(one[:fullBatch], '\n') + 1
			}
			batches[n] = append(batches[n], one[:end])
			one = one[end:]
		}
	}
	rate := func(b *testing.B, events int) {
		b.ReportMetric(float64(events)*float64(b.N)/b.Elapsed().Seconds()/1e6, "Mevents/s")
	}
	zip, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	require.NoError(b, err)
	// Packing is the senders' work, on other machines.
	zipped := make([][][]byte, senders)
	for n, list := range batches {
		for _, batch := range list {
			zipped[n] = append(zipped[n], zip.EncodeAll(batch, nil))
		}
	}
	for _, packed := range []bool{false, true} {
		b.Run(map[bool]string{false: "http-plain", true: "http-zstd"}[packed], func(b *testing.B) {
			var worked time.Duration
			for b.Loop() {
				b.StopTimer()
				folder := b.TempDir()
				st, err := sqlite.Open(b.Context(), folder)
				require.NoError(b, err)
				hub := ingest.New(st, rules.Default(), slog.New(slog.DiscardHandler))
				h, err := service.New(service.Config{Hub: hub, Log: slog.New(slog.DiscardHandler), Console: fstest.MapFS{"index.html": {Data: []byte("c")}}})
				require.NoError(b, err)
				server := httptest.NewServer(h)
				before := processorTime(b)
				b.StartTimer()
				ctx, cancel := context.WithTimeout(b.Context(), time.Minute)
				var group errgroup.Group
				for n, list := range map[bool][][][]byte{false: batches, true: zipped}[packed] {
					group.Go(func() error {
						for k, batch := range list {
							one := load.Batch{URL: server.URL, Stream: fmt.Sprintf("busy-%d", n), N: k + 1, Body: batch}
							if packed {
								one.Encoding = "zstd"
							}
							if _, err := load.Send(ctx, server.Client(), one, time.Millisecond); err != nil {
								return err
							}
						}
						return nil
					})
				}
				require.NoError(b, group.Wait())
				cancel()
				// All is analysed when the hub has closed in order.
				server.Close()
				hub.Close()
				b.StopTimer()
				worked += processorTime(b) - before
				require.NoError(b, st.Close())
				info, err := os.Stat(folder + "/" + sqlite.FileName)
				require.NoError(b, err)
				b.ReportMetric(float64(info.Size())/float64(senders*len(all)), "stored/lines")
				b.StartTimer()
			}
			rate(b, events)
			b.ReportMetric(float64(worked.Nanoseconds())/float64(b.N)/float64(events), "cpu-ns/event")
		})
	}
	b.Run("sqlite-rows", func(b *testing.B) {
		parsed := parsedLines(b, all)
		before := processorTime(b)
		for b.Loop() {
			db, err := sql.Open("sqlite", "file:"+b.TempDir()+"/rows.db?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
			require.NoError(b, err)
			_, err = db.Exec("CREATE TABLE events (ev TEXT, t INTEGER, inst INTEGER, scope INTEGER, reg INTEGER, by INTEGER, ns INTEGER, entry TEXT, kind TEXT, name TEXT, gave TEXT)")
			require.NoError(b, err)
			for part := range slices.Chunk(parsed, 20_000) {
				tx, err := db.Begin()
				require.NoError(b, err)
				insert, err := tx.Prepare("INSERT INTO events VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)")
				require.NoError(b, err)
				for _, l := range part {
					if _, err := insert.Exec(l.Ev, l.T, l.Inst, l.Scope, l.Reg, l.By, l.NS, l.Entry, l.Kind, l.Name, fmt.Sprint(l.With)); err != nil {
						b.Fatal(err)
					}
				}
				require.NoError(b, tx.Commit())
			}
			require.NoError(b, db.Close())
		}
		rate(b, len(parsed))
		b.ReportMetric(float64((processorTime(b)-before).Nanoseconds())/float64(b.N)/float64(len(parsed)), "cpu-ns/event")
	})
	b.Run("encoding-json", func(b *testing.B) {
		n := 0
		for b.Loop() {
			n = len(parsedLines(b, all))
		}
		rate(b, n)
	})
}

// processorTime returns what this process has used so far, of all cores together.
func processorTime(b *testing.B) time.Duration {
	var used syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &used))
	return time.Duration(used.Utime.Nano() + used.Stime.Nano())
}

// row is a line as encoding/json decodes it.
type row struct {
	Ev    string          `json:"ev"`
	T     int64           `json:"t"`
	Inst  int64           `json:"inst"`
	Scope int64           `json:"scope"`
	Reg   int64           `json:"reg"`
	By    json.RawMessage `json:"by"`
	NS    int64           `json:"ns"`
	Entry string          `json:"entry"`
	Kind  string          `json:"kind"`
	Name  string          `json:"name"`
	With  []int64         `json:"with"`
}

func parsedLines(b *testing.B, text []byte) (list []row) {
	for line := range bytes.Lines(text) {
		var l row
		if err := json.Unmarshal(line, &l); err != nil {
			b.Fatal(err)
		}
		list = append(list, l)
	}
	return list
}
