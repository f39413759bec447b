// Package many starts services that share a log, and the log's servers, as processes on loopback: for tests and the demo.
package many

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"keenlantern.example/internal/browser"
)

// BuildLog builds the log's server into a folder, and returns its path.
func BuildLog(folder string) (string, error) {
	bin := filepath.Join(folder, "nats-server")
	out, err := exec.Command("go", "build", "-pgo=off", "-o", bin, "github.com/nats-io/nats-server/v2").CombinedOutput()
	if err != nil {
		return "", fmt.Errorf("build the log's server: %w: %s", err, out)
	}
	return bin, nil
}

// Log is the servers of one log.
type Log struct {
	bin, folder string
	servers     []*server
}

type server struct {
	name          string
	port, cluster int
	cmd           *exec.Cmd
	done          chan struct{}
}

// StartLog starts so many servers, which keep what they keep in a folder. One alone is no cluster.
func StartLog(bin, folder string, n int) (*Log, error) {
	l := &Log{bin: bin, folder: folder}
	ports, err := FreePorts(2 * n)
	if err != nil {
		return nil, err
	}
	for k := range n {
		l.servers = append(l.servers, &server{name: fmt.Sprintf("log-%d", k+1), port: ports[2*k], cluster: ports[2*k+1]})
	}
	for k := range n {
		if err := l.Start(k); err != nil {
			l.Stop()
			return nil, err
		}
	}
	if err := l.wait(); err != nil {
		l.Stop()
		return nil, err
	}
	return l, nil
}

// FreePorts returns so many ports of loopback that are free.
func FreePorts(n int) ([]int, error) {
	var ports []int
	var open []net.Listener
	defer func() {
		for _, l := range open {
			l.Close()
		}
	}()
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		open = append(open, l)
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports, nil
}

// URL returns the addresses of all servers.
func (l *Log) URL() string {
	var list []string
	for _, s := range l.servers {
		list = append(list, fmt.Sprintf("nats://127.0.0.1:%d", s.port))
	}
	return strings.Join(list, ",")
}

// Start starts a server that does not run.
func (l *Log) Start(k int) error {
	s := l.servers[k]
	config := fmt.Sprintf("server_name: %s\nlisten: 127.0.0.1:%d\njetstream { store_dir: %q, max_mem: 256M, max_file: 8G }\n", s.name, s.port, filepath.Join(l.folder, s.name))
	if len(l.servers) > 1 {
		var routes []string
		for _, other := range l.servers {
			routes = append(routes, fmt.Sprintf("nats-route://127.0.0.1:%d", other.cluster))
		}
		config += fmt.Sprintf("cluster { name: lantern, no_advertise: true, listen: 127.0.0.1:%d, routes: [%s] }\n", s.cluster, strings.Join(routes, ", "))
	}
	file := filepath.Join(l.folder, s.name+".conf")
	if err := os.WriteFile(file, []byte(config), 0o600); err != nil {
		return err
	}
	s.cmd = exec.Command(l.bin, "-c", file, "-l", filepath.Join(l.folder, s.name+".log"))
	s.done = make(chan struct{})
	if err := s.cmd.Start(); err != nil {
		return fmt.Errorf("start the log's server: %w", err)
	}
	go func() {
		defer close(s.done)
		_ = s.cmd.Wait() // it is killed
	}()
	return nil
}

// wait waits until all servers listen and know each other.
func (l *Log) wait() error {
	late := time.Now().Add(30 * time.Second)
	for _, s := range l.servers {
		for {
			c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
			if err == nil {
				c.Close()
				break
			}
			select {
			case <-s.done:
				text, _ := os.ReadFile(filepath.Join(l.folder, s.name+".log"))
				return fmt.Errorf("the log's server %s ended at once: %s", s.name, text)
			case <-time.After(50 * time.Millisecond):
			}
			if time.Now().After(late) {
				return errors.New("the log's servers do not listen after 30 s")
			}
		}
	}
	return nil
}

// Kill ends a server at once.
func (l *Log) Kill(k int) {
	if s := l.servers[k]; s.cmd != nil {
		_ = s.cmd.Process.Kill() // it may have ended
		<-s.done
	}
}

// Stop ends all servers.
func (l *Log) Stop() {
	var all sync.WaitGroup
	for k, s := range l.servers {
		if s.cmd != nil {
			all.Go(func() { l.Kill(k) })
		}
	}
	all.Wait()
}

// CPU returns the processor time that the servers have taken.
func (l *Log) CPU() (sum time.Duration) {
	for _, s := range l.servers {
		sum += CPU(s.cmd.Process.Pid)
	}
	return sum
}

// CPU returns the processor time that a process has taken, 0 where that cannot be read.
func CPU(pid int) time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := bytes.Cut(text, []byte(") "))
	fields := strings.Fields(string(rest))
	if len(fields) < 13 {
		return 0
	}
	ticks := 0
	for _, f := range fields[11:13] { // of the process itself: user and system
		n := 0
		fmt.Sscan(f, &n)
		ticks += n
	}
	return time.Duration(ticks) * 10 * time.Millisecond
}

// Fleet is services that share a log.
type Fleet struct {
	bin, folder string
	log         *Log
	args        []string
	ports       []int
	list        []*browser.Service // nil: it does not run
	wires       map[int]*Wires     // of services that have their own ways to the log
}

// StartFleet starts so many services on a log. Each has a port and its own folder, which it keeps when it is started again.
func StartFleet(bin, folder string, log *Log, n int, args ...string) (*Fleet, error) {
	ports, err := FreePorts(n)
	if err != nil {
		return nil, err
	}
	f := &Fleet{bin: bin, folder: folder, log: log, args: args, ports: ports, list: make([]*browser.Service, n)}
	for k := range n {
		if err := f.Start(k); err != nil {
			f.Stop()
			return nil, err
		}
	}
	return f, nil
}

// URL returns a service's address.
func (f *Fleet) URL(k int) string { return fmt.Sprintf("http://127.0.0.1:%d", f.ports[k]) }

// URLs returns those of all.
func (f *Fleet) URLs() (list []string) {
	for k := range f.ports {
		list = append(list, f.URL(k))
	}
	return list
}

// Data returns a service's folder.
func (f *Fleet) Data(k int) string { return filepath.Join(f.folder, fmt.Sprintf("service-%d", k+1)) }

// Start starts a service that does not run.
func (f *Fleet) Start(k int) error {
	url := f.log.URL()
	if w := f.wires[k]; w != nil {
		url = w.URL()
	}
	s, err := browser.Serve(f.bin, "serve", f.Data(k), append([]string{"--listen", fmt.Sprintf("127.0.0.1:%d", f.ports[k]), "--log", url}, f.args...)...)
	f.list[k] = s
	return err
}

// Wire gives a service ways of its own to the log, which can be cut. It is used from when the service is started next.
func (f *Fleet) Wire(k int) (*Wires, error) {
	w, err := NewWires(f.log)
	if err != nil {
		return nil, err
	}
	if f.wires == nil {
		f.wires = map[int]*Wires{}
	}
	f.wires[k] = w
	return w, nil
}

// StopOne ends a service in order.
func (f *Fleet) StopOne(k int) error {
	s := f.list[k]
	f.list[k] = nil
	return s.Stop()
}

// With has services that are started from now on use more options, or what stands in for another version.
func (f *Fleet) With(args ...string) { f.args = append(f.args, args...) }

// Kill ends a service at once.
func (f *Fleet) Kill(k int) {
	if f.list[k] != nil {
		f.list[k].Kill()
		f.list[k] = nil
	}
}

// PID returns a service's process.
func (f *Fleet) PID(k int) int { return f.list[k].PID() }

// Stop ends all services in order.
func (f *Fleet) Stop() {
	var all sync.WaitGroup
	for k, s := range f.list {
		if s != nil {
			f.list[k] = nil
			all.Go(func() { _ = s.Stop() }) // it may have ended
		}
	}
	all.Wait()
}
