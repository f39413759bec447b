package attack_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/attack/traces"
	"keenlantern.example/internal/core/views"
)

const stalled = "PUT /api/v1/streams/s/batches/1 HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 10\r\n\r\n"

// TestConnections takes every connection there is with bodies that never come.
func TestConnections(t *testing.T) {
	s := serve(t)
	many := size(1_200, 4_200)
	for k := range many {
		s.dial(fmt.Sprintf("127.0.0.%d", 2+k/1_100), stalled)
	}
	began := time.Now()
	answer := func(from, path string) (string, error) {
		conn, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 5 * time.Second}).Dial("tcp", s.address())
		if err != nil {
			return "", err
		}
		defer conn.Close()
		_ = conn.SetDeadline(time.Now().Add(5 * time.Second)) // a connection that has ended says so when it is read
		if _, err := io.WriteString(conn, "GET "+path+" HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n"); err != nil {
			return "", err
		}
		line, err := bufio.NewReader(conn).ReadString('\n')
		return strings.TrimSpace(line), err
	}
	// Addresses without failed sign-ins are served; the others get 429.
	said, err := answer("127.0.0.99", "/api/v1/recordings")
	if many < 4096 {
		require.NoError(t, err)
		assert.Equal(t, "HTTP/1.1 200 OK", said)
	}
	s.until("it says how it is, to the attacker's address too", func() bool {
		said, err = answer("127.0.0.2", "/healthz")
		return err == nil && said == "HTTP/1.1 200 OK"
	})
	waited := time.Since(began)
	said, err = answer("127.0.0.2", "/metrics")
	require.NoError(t, err)
	assert.Equal(t, "HTTP/1.1 200 OK", said)
	said, err = answer("127.0.0.2", "/api/v1/recordings")
	if err == nil && time.Since(began) < 5*time.Second {
		assert.Equal(t, "HTTP/1.1 503 Service Unavailable", said)
	}
	s.until("bodies that have not begun are cut off", func() bool {
		said, err = answer("127.0.0.2", "/api/v1/recordings")
		return err == nil && said == "HTTP/1.1 200 OK"
	})
	measure(fmt.Sprintf("%d connections whose body never comes", many), "/healthz answered after %.1f s, everything served again after %.0f s", waited.Seconds(), time.Since(began).Seconds())
}

// TestRefusedRequestsLeave checks that a request which is refused does not keep its connection.
func TestRefusedRequestsLeave(t *testing.T) {
	s := serve(t)
	for name, say := range map[string]string{
		"too large":       "PUT /api/v1/streams/s/batches/1 HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 100000000000\r\n\r\n",
		"a bad number":    "PUT /api/v1/streams/s/batches/x HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n",
		"a foreign page":  "PUT /api/v1/streams/s/batches/1 HTTP/1.1\r\nHost: 127.0.0.1\r\nOrigin: http://elsewhere.example\r\nContent-Length: 1000\r\n\r\n",
		"nothing is here": "POST /api/v1/nothing HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 1000\r\n\r\n",
	} {
		conn := s.dial("127.0.0.1", say)
		require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
		said, err := io.ReadAll(conn)
		assert.NoError(t, err, "%s: the connection is closed: %.100s", name, said)
		assert.Contains(t, string(said), "HTTP/1.1 4", name)
	}
}

// TestBodiesThatNeverCome checks that a request whose body is not needed is answered and its connection closed, whatever its framing.
func TestBodiesThatNeverCome(t *testing.T) {
	s := serve(t)
	asked := map[string]net.Conn{}
	for _, method := range []string{"GET", "HEAD", "OPTIONS", "DELETE", "TRACE", "PUT", "POST"} {
		for _, path := range []string{"/", "/healthz", "/api/v1/recordings", "/api/v1/service", "/nothing"} {
			if method == "POST" && path == "/api/v1/recordings" {
				continue // it is what an import is read from, and has its time
			}
			for _, framing := range []string{"Content-Length: 1000", "Transfer-Encoding: chunked", "Content-Length: 1000\r\nExpect: 100-continue"} {
				name := method + " " + path + " " + framing
				asked[name] = s.dial("127.0.0.1", method+" "+path+" HTTP/1.1\r\nHost: 127.0.0.1\r\n"+framing+"\r\n\r\n")
			}
		}
	}
	until := time.Now().Add(5 * time.Second)
	for name, conn := range asked {
		require.NoError(t, conn.SetDeadline(until))
		said, err := io.ReadAll(conn)
		assert.NoError(t, err, "%s: the connection is closed: %.60s", name, said)
		assert.Contains(t, string(said), "HTTP/1.1 ", name)
	}
	s.alive()
}

// TestStalledBodies holds what is read of bodies that stall, packed or in chunks, to a bound.
func TestStalledBodies(t *testing.T) {
	s := serve(t)
	before, _ := s.memory()
	many := size(190, 900)
	packed := zip([]byte(traces.Hello("s") + strings.Repeat(`{"ev":"gap","t":1,"lost":1}`+"\n", 200_000)))
	for k := range many {
		head := fmt.Sprintf("PUT /api/v1/streams/s%d/batches/1 HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n", k)
		body := strings.Repeat("x", 200<<10)
		if k%2 == 0 {
			head += "Content-Encoding: gzip\r\n"
			body = string(packed[:len(packed)-1])
		}
		s.dial("127.0.0.1", fmt.Sprintf("%s\r\n%x\r\n%s\r\n", head, len(body), body))
	}
	time.Sleep(2 * time.Second) // for what is sent to be read
	_, metrics := s.do(http.MethodGet, "/metrics", nil)
	held := regexp.MustCompile(`(?m)^keenlantern_ingest_waiting_bytes (\S+)`).FindStringSubmatch(metrics)
	require.NotNil(t, held)
	bytes, err := strconv.ParseFloat(held[1], 64)
	require.NoError(t, err)
	now, _ := s.memory()
	measure(fmt.Sprintf("%d bodies that stall after 200 kB or as a packed whole", many), "%.1f MB accounted for, %d MB resident (%d before)", bytes/1e6, now, before)
	assert.Less(t, now-before, 150, "MiB")
	s.alive()
}

// TestRequests sends requests made up from the OpenAPI document, and methods, names and unexpected numbers.
func TestRequests(t *testing.T) {
	s := serve(t)
	s.send("h-1", traces.OneScope("h-1", 50))
	var doc struct {
		Paths map[string]map[string]any
	}
	s.get("/api/v1/openapi.json", &doc)
	dice := rand.New(rand.NewPCG(7, 7))
	odd := []string{"latest", "0", "-1", "NaN", "1e999", "..", "%2e%2e%2f", strings.Repeat("x", 5000), "\u202e", "a%00b", "9223372036854775808", "h-1", "1", "true", "constructor", "'--", "{{7*7}}"}
	pick := func() string { return odd[dice.IntN(len(odd))] }
	param := regexp.MustCompile(`\{\w+\}`)
	var targets []string
	for path, methods := range doc.Paths {
		for method := range methods {
			if path == "/api/v1/live" || strings.HasSuffix(path, "/recorders/{recorder}") {
				continue // they wait
			}
			targets = append(targets, strings.ToUpper(method)+" "+path)
		}
	}
	faults := 0
	for range size(600, 60_000) {
		method, path, _ := strings.Cut(targets[dice.IntN(len(targets))], " ")
		if dice.IntN(8) == 0 {
			method = []string{"BREW", "PROPFIND", "GET", "DELETE", "OPTIONS"}[dice.IntN(5)]
		}
		path = param.ReplaceAllStringFunc(path, func(string) string { return url.PathEscape(pick()) })
		query := url.Values{}
		for range dice.IntN(4) {
			query.Set([]string{"limit", "offset", "severity", "last", "scopes", "name", "a", "b", "from", "to", "sort", "service"}[dice.IntN(12)], pick())
		}
		body := []string{"", "{}", "[]", `{"token":1}`, `{"on":true,"share":1e999}`, "\x00\xff", `{"name":"` + strings.Repeat("x", 300) + `"}`}[dice.IntN(7)]
		status, said := s.do(method, path+"?"+query.Encode(), strings.NewReader(body))
		if status >= 500 || status == 0 {
			faults++
			t.Errorf("%s %.200s?%.200s: %d %.200s", method, path, query.Encode(), status, said)
		}
	}
	// Metrics take no label from a request, and what a page of another site makes a browser send changes nothing.
	for k := range size(300, 20_000) {
		req, err := http.NewRequest(fmt.Sprintf("INVENTED%d", k), s.URL+"/api/v1/recordings", nil)
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
	}
	_, metrics := s.do(http.MethodGet, "/metrics", nil)
	assert.NotContains(t, metrics, "INVENTED")
	assert.Less(t, len(metrics), 200_000)
	for _, share := range []string{"NaN", "Infinity", "-1", "2", "1e400"} {
		status, said := s.do(http.MethodPut, "/api/v1/applications/harbour/recorders/r", strings.NewReader(`{"share":`+share+`}`))
		assert.Equal(t, http.StatusBadRequest, status, said)
	}
	status, _ := s.do(http.MethodPut, "/api/v1/applications/harbour/recorders/r", strings.NewReader(`{"version":"`+strings.Repeat("x", 1000)+`"}`))
	assert.Equal(t, http.StatusBadRequest, status)
	status, _ = s.do(http.MethodGet, "/api/v1/applications/image/order?recorder=x&share=NaN", nil, "Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "no-cors", "Sec-Fetch-Dest", "image")
	assert.Equal(t, http.StatusForbidden, status)
	status, _ = s.do(http.MethodGet, "/recordings", nil, "Sec-Fetch-Site", "cross-site", "Sec-Fetch-Mode", "navigate", "Sec-Fetch-Dest", "document")
	assert.Equal(t, http.StatusOK, status, "a link to a page may be followed from anywhere")
	var apps struct{ Applications []views.Application }
	s.get("/api/v1/applications", &apps)
	for _, a := range apps.Applications {
		assert.NotEqual(t, "image", a.Name, "reading changes nothing")
	}
	_, most := s.memory()
	measure(fmt.Sprintf("%d requests made up from the OpenAPI document", size(600, 60_000)), "%d faults, %d MB resident at most", faults, most)
	s.alive()
}

// TestEndedStreamsLeave checks that streams which have ended make room for new ones at once.
func TestEndedStreamsLeave(t *testing.T) {
	s := serve(t)
	began := time.Now()
	for k := range size(1_100, 5_000) {
		stream := fmt.Sprintf("short-%d", k)
		s.send(stream, traces.Hello(stream)+`{"ev":"bye","t":1}`+"\n")
	}
	measure(fmt.Sprintf("%d short streams, one after the other", size(1_100, 5_000)), "taken in %.1f s", time.Since(began).Seconds())
}

// TestListeners checks that many who listen to one recording cost one summary for each change.
func TestListeners(t *testing.T) {
	s := serve(t)
	status, said := s.put("h-1", 1, traces.Hello("h-1"))
	require.Equal(t, http.StatusOK, status, said)
	ctx, stop := context.WithCancel(t.Context())
	var wg sync.WaitGroup
	var mu sync.Mutex
	heard := 0
	many := size(200, 1_000)
	for range many {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL+"/api/v1/live", nil)
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		wg.Go(func() {
			defer res.Body.Close()
			for lines := bufio.NewScanner(res.Body); lines.Scan(); {
				if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
					var r views.Summary
					if json.Unmarshal([]byte(data), &r) == nil && r.Figures.Events == 41 {
						mu.Lock()
						heard++
						mu.Unlock()
						return
					}
				}
			}
		})
	}
	began := time.Now()
	for n := range 40 {
		status, said := s.put("h-1", n+2, `{"ev":"gap","t":1,"lost":1}`+"\n")
		require.Equal(t, http.StatusOK, status, said)
	}
	s.until("all have heard of the last batch", func() bool { mu.Lock(); defer mu.Unlock(); return heard == many })
	_, metrics := s.do(http.MethodGet, "/metrics", nil)
	made := regexp.MustCompile(`(?m)^keenlantern_live_messages_total (\d+)`).FindStringSubmatch(metrics)
	require.NotNil(t, made)
	measure(fmt.Sprintf("%d listeners to one recording that changes 40 times", many), "%s summaries made, all heard the last after %.1f s", made[1], time.Since(began).Seconds())
	assert.Less(t, len(made[1]), 3, "summaries: %s", made[1])
	stop()
	wg.Wait()
}
