package service_test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/rules"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/service"
	"keenlantern.example/internal/store"
	"keenlantern.example/record/event"
)

// office writes a trace of so many requests, twelve events each, of forty names and over sixty registrations.
func office(out io.Writer, requests int) error {
	b := []byte(`{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"busy-1","start":"2026-03-02T05:40:00.000000000Z"}` + "\n")
	const regs = 60
	for r := 1; r <= regs; r++ {
		lifetime := []string{"singleton", "scoped", "transient"}[r%3]
		b = fmt.Appendf(b, `{"ev":"register","t":1,"reg":%d,"service":"Service%02d","lifetime":"%s","disposable":%t}`+"\n", r, r, lifetime, r%3 == 1)
	}
	inst := event.InstID(0)
	singles := []event.InstID{}
	for r := 3; r <= regs; r += 3 {
		inst++
		singles = append(singles, inst)
		b = fmt.Appendf(b, `{"ev":"make","t":2,"inst":%d,"reg":%d,"scope":0,"ns":1000}`+"\n", inst, r)
	}
	e := event.Event{Count: 1, Weight: 1}
	say := func(kind event.Kind, t int64, fields ...event.Field) {
		e.Kind, e.T, e.Has = kind, t, event.Of(fields...)
		b = event.AppendLine(b, &e)
	}
	for k := range requests {
		t, s := int64(k)*100_000, event.ScopeID(k+1)
		e.Scope, e.ScopeKind, e.Name, e.Entry = s, "request", fmt.Sprintf("GET /office/%02d", k*k%40), "handle"
		say(event.Open, t, event.FScope, event.FKind, event.FName)
		inst++
		e.Inst, e.Reg, e.NS, e.With = inst, event.RegID(1+3*(k%20)), 2000, []event.With{{Inst: singles[k%20]}}
		say(event.Make, t+10_000, event.FInst, event.FReg, event.FScope, event.FNS, event.FWith)
		inst++
		e.Inst, e.Reg, e.NS, e.With = inst, event.RegID(2+3*(k%20)), 4000, []event.With{{Inst: inst - 1}, {Slot: 1, Inst: singles[(k+7)%20]}}
		say(event.Make, t+13_000, event.FInst, event.FReg, event.FScope, event.FNS, event.FWith)
		say(event.Give, t+14_000, event.FInst, event.FScope, event.FEntry)
		for u := range int64(6) {
			e.Inst, e.User, e.NS = inst-1, inst, 500
			say(event.Use, t+20_000+1000*u, event.FInst, event.FScope, event.FBy, event.FNS)
		}
		e.Inst = inst - 1
		if k%1000 != 0 {
			say(event.Dispose, t+50_000, event.FInst, event.FScope)
		}
		say(event.Close, t+60_000+int64(k%977)*100, event.FScope)
		if len(b) > 64<<10 {
			if _, err := out.Write(b); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	_, err := out.Write(fmt.Appendf(b, `{"ev":"bye","t":%d}`+"\n", int64(requests)*100_000))
	return err
}

// BenchmarkViews asks every view of a recording of 1 million and of 10 million events, with parameters that keep
// changing, and tells the time within which 95 of 100 are answered.
func BenchmarkViews(b *testing.B) {
	slowest := map[string]map[int]time.Duration{}
	for _, millions := range []int{1, 10} {
		b.Run(fmt.Sprintf("%dM-events", millions), func(b *testing.B) {
			log := slog.New(slog.DiscardHandler)
			st, err := store.Open(b.Context(), b.TempDir())
			require.NoError(b, err)
			defer st.Close()
			hub := ingest.New(st, rules.Default(), log)
			defer hub.Close()
			h, err := service.New(service.Config{Hub: hub, Log: log, Console: fstest.MapFS{"index.html": {Data: []byte("c")}}})
			require.NoError(b, err)
			requests := millions * 1_000_000 / 12
			in, out := io.Pipe()
			go func() { out.CloseWithError(office(out, requests)) }()
			_, err = hub.PutFile(b.Context(), in)
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
