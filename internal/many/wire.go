package many

import (
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
)

// Wires are the ways from one service to the log's servers. Cut, nothing passes any more, without an error; mended, what was
// under way arrives late.
type Wires struct {
	listeners []net.Listener
	mu        sync.Mutex
	mended    chan struct{} // closed while nothing is cut
	conns     map[net.Conn]struct{}
}

// NewWires returns ways to all servers of a log.
func NewWires(l *Log) (*Wires, error) {
	w := &Wires{mended: make(chan struct{}), conns: map[net.Conn]struct{}{}}
	close(w.mended)
	for _, s := range l.servers {
		in, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, errors.Join(err, w.Close())
		}
		w.listeners = append(w.listeners, in)
		go w.serve(in, fmt.Sprintf("127.0.0.1:%d", s.port))
	}
	return w, nil
}

// URL returns the addresses at this end.
func (w *Wires) URL() string {
	var list []string
	for _, l := range w.listeners {
		list = append(list, "nats://"+l.Addr().String())
	}
	return strings.Join(list, ",")
}

func (w *Wires) serve(in net.Listener, to string) {
	for {
		a, err := in.Accept()
		if err != nil {
			return // it is closed
		}
		go func() {
			w.wait()
			b, err := net.Dial("tcp", to)
			if err != nil {
				a.Close()
				return
			}
			w.mu.Lock()
			w.conns[a], w.conns[b] = struct{}{}, struct{}{}
			w.mu.Unlock()
			var both sync.WaitGroup
			both.Go(func() { w.copy(b, a) })
			both.Go(func() { w.copy(a, b) })
			both.Wait()
			w.mu.Lock()
			delete(w.conns, a)
			delete(w.conns, b)
			w.mu.Unlock()
		}()
	}
}

func (w *Wires) wait() {
	w.mu.Lock()
	mended := w.mended
	w.mu.Unlock()
	<-mended
}

func (w *Wires) copy(to, from net.Conn) {
	defer to.Close()
	defer from.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := from.Read(buf)
		if n > 0 {
			w.wait()
			if _, err := to.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// Cut has nothing pass any more.
func (w *Wires) Cut() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.mended = make(chan struct{})
}

// Mend has everything pass again, what has waited first.
func (w *Wires) Mend() {
	w.mu.Lock()
	defer w.mu.Unlock()
	close(w.mended)
}

// Close ends all ways.
func (w *Wires) Close() error {
	var errs []error
	for _, l := range w.listeners {
		errs = append(errs, l.Close())
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	for c := range w.conns {
		c.Close()
	}
	return errors.Join(errs...)
}
