package service

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
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
	if err := foreign(c.Request, s.Hosts); err != nil {
		s.problem(c, err)
		return
	}
	if c.Request.Body != nil && c.Request.Body != http.NoBody {
		c.Request.Body = &patientBody{c.Request.Body, http.NewResponseController(c.Writer)}
	}
	c.Next()
}

// readPause is how long a body may pause.
const readPause = 30 * time.Second

// patientBody lets a body take as long as it takes, as long as something comes: one that only holds a connection is cut
// off.
type patientBody struct {
	io.ReadCloser
	conn *http.ResponseController
}

func (b *patientBody) Read(p []byte) (int, error) {
	// Where the connection has no deadlines, as in tests without one, there is none to be set.
	_ = b.conn.SetReadDeadline(time.Now().Add(readPause))
	n, err := b.ReadCloser.Read(p)
	if err != nil {
		_ = b.conn.SetReadDeadline(time.Time{}) // the next request has a time of its own
	}
	return n, err
}

// foreign tells whether a request names a host that is not the one it came to, or comes from a page of another one.
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
	if origin := r.Header.Get("Origin"); origin != "" {
		if from, err := url.Parse(origin); err != nil || from.Host != r.Host {
			return &foreignRequest{fmt.Sprintf("a page of %q may not ask this service", origin)}
		}
	}
	return nil
}
