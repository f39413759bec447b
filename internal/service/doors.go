package service

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"
)

// Doors bounds the connections that a service holds: in all, and from each address. Connections beyond that are let into
// a small separate listener, where the service reports its state (/healthz, /readyz, /metrics) and refuses everything else, so
// that it can be looked after while it is under attack. Idle connections make room for new ones.
type Doors struct {
	most, each, spare int

	mu     sync.Mutex
	open   map[*door]struct{}
	byHost map[string]int
	spares int

	proxies []netip.Prefix // trusted proxies
}

// The bounds of Doors, unless a test sets others.
const (
	MaxConnections = 4096
	MaxPerAddress  = 1024
	maxSpare       = 64
	spareFor       = 5 * time.Second // how long a connection may be in the small room
)

// NewDoors returns Doors for so many connections in all, and from each address.
func NewDoors(most, each int) *Doors {
	return &Doors{most: most, each: each, spare: maxSpare, open: map[*door]struct{}{}, byHost: map[string]int{}}
}

// Trust exempts the addresses of proxies from the limit for each address.
func (d *Doors) Trust(proxies []netip.Prefix) { d.proxies = proxies }

// mostFrom returns how many connections an address may open.
func (d *Doors) mostFrom(host string) int {
	ip, err := netip.ParseAddr(host)
	if err == nil && slices.ContainsFunc(d.proxies, func(p netip.Prefix) bool { return p.Contains(ip.Unmap()) }) {
		return d.most
	}
	return d.each
}

// door is one connection.
type door struct {
	net.Conn
	of    *Doors
	host  string
	spare bool
	timer *time.Timer
	once  sync.Once
	idle  time.Time // since when; zero while a request is going on. Guarded by Doors.mu
}

// Close closes the connection and makes room for another.
func (d *door) Close() error {
	d.once.Do(func() {
		if d.timer != nil {
			d.timer.Stop()
		}
		d.of.mu.Lock()
		defer d.of.mu.Unlock()
		delete(d.of.open, d)
		if d.spare {
			d.of.spares--
		} else if d.of.byHost[d.host]--; d.of.byHost[d.host] == 0 {
			delete(d.of.byHost, d.host)
		}
	})
	return d.Conn.Close()
}

// Listen returns l with its connections bounded.
func (d *Doors) Listen(l net.Listener) net.Listener { return &doorListener{l, d} }

type doorListener struct {
	net.Listener
	doors *Doors
}

// Accept waits for the next connection that there is room for.
func (l *doorListener) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if in := l.doors.let(conn); in != nil {
			return in, nil
		}
		_ = conn.Close()
	}
}

// let finds room for a connection, nil if there is none.
func (d *Doors) let(conn net.Conn) *door {
	host, _, err := net.SplitHostPort(conn.RemoteAddr().String())
	if err != nil {
		host = conn.RemoteAddr().String()
	}
	in := &door{Conn: conn, of: d, host: host}
	d.mu.Lock()
	full := d.byHost[host] >= d.mostFrom(host)
	if !full && len(d.open)-d.spares >= d.most {
		full = true
		if old := d.longestIdle(); old != nil {
			d.mu.Unlock()
			_ = old.Close()
			d.mu.Lock()
			full = false
		}
	}
	defer d.mu.Unlock()
	if full {
		if d.spares >= d.spare {
			return nil
		}
		in.spare = true
		d.spares++
		in.timer = time.AfterFunc(spareFor, func() { _ = in.Close() })
	} else {
		d.byHost[host]++
	}
	d.open[in] = struct{}{}
	return in
}

// longestIdle returns the connection that has been without a request for longest. The caller holds mu.
func (d *Doors) longestIdle() *door {
	var old *door
	for in := range d.open {
		if !in.spare && !in.idle.IsZero() && (old == nil || in.idle.Before(old.idle)) {
			old = in
		}
	}
	return old
}

// State is for http.Server.ConnState.
func (d *Doors) State(conn net.Conn, state http.ConnState) {
	in := doorOf(conn)
	if in == nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	in.idle = time.Time{}
	if state == http.StateIdle {
		in.idle = time.Now()
	}
}

// doorOf returns what is known of a connection, which TLS may lie around.
func doorOf(conn net.Conn) *door {
	if over, ok := conn.(interface{ NetConn() net.Conn }); ok {
		conn = over.NetConn()
	}
	in, _ := conn.(*door)
	return in
}

type doorKey struct{}

// Context is for http.Server.ConnContext.
func (d *Doors) Context(ctx context.Context, conn net.Conn) context.Context {
	if in := doorOf(conn); in != nil && in.spare {
		return context.WithValue(ctx, doorKey{}, true)
	}
	return ctx
}

// errRoom is returned when there are too many connections.
var errRoom = errors.New("the service holds as many connections as it takes, in all or from this address; close some, or try again later")

// inRoom answers what comes by the small room: how the service is, and nothing else.
func (s *service) inRoom(g *gin.Engine) http.Handler {
	full := gin.New()
	full.NoRoute(func(c *gin.Context) { s.problem(c, errRoom) })
	return &rooms{g, full, packed(g)}
}

// leastPacked is how many bytes an answer has at least that is worth packing.
const leastPacked = 1 << 10

// packed sends the answers of h packed, to those who take that. Their length then reveals nothing exact about their content.
func packed(h http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(leastPacked), gzhttp.RandomJitter(32, 0, false))
	if err != nil {
		panic(err) // the options are constants
	}
	return wrap(h)
}

// rooms are the service, and the small room beside it.
type rooms struct {
	*gin.Engine
	full   *gin.Engine
	packed http.Handler // the same as Engine
}

// ServeHTTP answers in the one by which the connection came.
func (r *rooms) ServeHTTP(w http.ResponseWriter, req *http.Request) {
	if req.Context().Value(doorKey{}) == nil {
		// Only what is asked for, and ends: news goes out line by line.
		packed := strings.HasPrefix(req.URL.Path, "/go/") || strings.HasPrefix(req.URL.Path, "/maven/") || strings.HasPrefix(req.URL.Path, "/nuget/") || strings.HasPrefix(req.URL.Path, "/recorders/")
		if (req.Method == http.MethodGet || req.Method == http.MethodHead) && req.URL.Path != "/api/v1/live" && !packed {
			r.packed.ServeHTTP(w, req)
			return
		}
		r.Engine.ServeHTTP(w, req)
		return
	}
	w.Header().Set("Connection", "close")
	switch req.URL.Path {
	case "/healthz", "/readyz", "/metrics":
		r.Engine.ServeHTTP(w, req)
	default:
		r.full.ServeHTTP(w, req)
	}
}
