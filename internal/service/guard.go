package service

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"
)

// foreignRequest is one that a page of another site made a browser send here.
type foreignRequest struct{ why string }

func (e *foreignRequest) Error() string { return e.why }

// guarded refuses requests by which another site could use a reader's browser to reach a service on loopback, and sets
// the headers that keep the console from loading or being loaded by anything else.
func (s *service) guarded(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
		"font-src 'self'; connect-src 'self'; worker-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	if c.Request.TLS != nil {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	conn := http.NewResponseController(c.Writer)
	// Where the connection has no deadlines, as in tests without one, there is none to be set.
	_ = conn.SetWriteDeadline(time.Now().Add(writeFor))
	switch {
	case c.Request.Body == nil || c.Request.Body == http.NoBody:
	case c.Request.Method != http.MethodPut && c.Request.Method != http.MethodPost && c.Request.Method != http.MethodPatch:
		// No body is needed: neither the handler nor the server, which reads the rest of a body, waits for it.
		c.Request.Body = http.NoBody
		h.Set("Connection", "close")
		_ = conn.SetReadDeadline(time.Now().Add(unreadBody))
	default:
		// A handler that does not read it leaves it to the server.
		_ = conn.SetReadDeadline(time.Now().Add(bodyBegins))
		c.Request.Body = &patientBody{ReadCloser: c.Request.Body, conn: conn, began: time.Now()}
	}
	if err := foreign(c.Request, s.Hosts); err != nil {
		s.problem(c, err)
		return
	}
	c.Next()
}

// How long a connection may be held by a request that does not come, and by an answer that is not read.
const (
	unreadBody = 100 * time.Millisecond // for a body that is not needed
	bodyBegins = 10 * time.Second       // until the first byte of a body
	bodyPause  = 15 * time.Second       // between two
	bodyGrace  = 30 * time.Second       // after which it has to have come at this rate:
	bodyRate   = 512                    // bytes a second, since it began
	writeFor   = 2 * time.Minute        // for an answer, and for each piece of a long one
)

// patientBody lets a body take long as long as it comes at a fair rate: one that only holds a connection is cut off.
type patientBody struct {
	io.ReadCloser
	conn    *http.ResponseController
	began   time.Time
	n       int64
	aborted atomic.Bool
}

// abort ends reading. It may be called during a read.
func (b *patientBody) abort() {
	b.aborted.Store(true)
	_ = b.conn.SetReadDeadline(time.Now())
}

// Read reads what comes until the deadline.
func (b *patientBody) Read(p []byte) (int, error) {
	now := time.Now()
	until := now.Add(bodyPause)
	if b.n == 0 {
		until = b.began.Add(bodyBegins)
	} else if fair := b.began.Add(bodyGrace + time.Duration(b.n/bodyRate)*time.Second); fair.Before(until) {
		until = fair
	}
	_ = b.conn.SetReadDeadline(until)
	if b.aborted.Load() {
		_ = b.conn.SetReadDeadline(time.Now())
	}
	n, err := b.ReadCloser.Read(p)
	b.n += int64(n)
	if err != nil {
		_ = b.conn.SetReadDeadline(time.Time{}) // the next request has a time of its own
	}
	_ = b.conn.SetWriteDeadline(time.Now().Add(writeFor)) // the answer's time begins when the request has come
	return n, err
}

// refuseBody ends a connection whose request was refused before its body came: the server would wait for the rest of it.
func refuseBody(c *gin.Context) {
	body, ok := c.Request.Body.(*patientBody)
	if !ok || c.Writer.Written() {
		return
	}
	c.Header("Connection", "close")
	_ = body.conn.SetReadDeadline(time.Now().Add(unreadBody))
}

// foreign reports whether a request names a host that is not the one it came to, or comes from a page of another one.
func foreign(r *http.Request, hosts []string) error {
	local, _ := r.Context().Value(http.LocalAddrContextKey).(*net.TCPAddr)
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	known := func(name string) bool { return strings.EqualFold(name, host) }
	switch {
	case local == nil || slices.ContainsFunc(hosts, known):
	case local.IP.IsLoopback():
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			return &foreignRequest{fmt.Sprintf("this service is on loopback and is not called %q", host)}
		}
	default:
		if ip := net.ParseIP(host); ip == nil || !ip.Equal(local.IP) {
			return &foreignRequest{fmt.Sprintf("this service is not called %q; 'keenlantern serve --host %s' lets it be", host, host)}
		}
	}
	// Browsers are where a request comes from. A link to a page of the console may come from anywhere.
	site := r.Header.Get("Sec-Fetch-Site")
	if (site == "cross-site" || site == "same-site") && (r.Header.Get("Sec-Fetch-Mode") != "navigate" || r.Header.Get("Sec-Fetch-Dest") != "document" || api(r.URL.Path)) {
		return &foreignRequest{"a page of another site may not ask this service"}
	}
	if origin := r.Header.Get("Origin"); origin != "" {
		if from, err := url.Parse(origin); err != nil || from.Host != r.Host {
			return &foreignRequest{fmt.Sprintf("a page of %q may not ask this service", origin)}
		}
	}
	return nil
}

// api reports whether an address is the API's rather than a page's.
func api(path string) bool {
	return strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/v1/") || strings.HasPrefix(path, "/go/") || strings.HasPrefix(path, "/maven/") || strings.HasPrefix(path, "/nuget/") || strings.HasPrefix(path, "/composer/") || strings.HasPrefix(path, "/recorders/") || path == "/metrics"
}
