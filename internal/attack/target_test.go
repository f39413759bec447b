package attack_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"keenlantern.example/internal/browser"
)

var (
	large   = flag.Bool("large", false, "attack with sizes that take minutes")
	figures = flag.String("figures", "", "the file to write what was measured into")
)

// size returns how large an attack is.
func size(small, big int) int {
	if *large {
		return big
	}
	return small
}

var build = sync.OnceValues(func() (string, error) {
	folder, err := os.MkdirTemp("", "lantern-attack")
	if err != nil {
		return "", err
	}
	return browser.Build(folder)
})

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		fmt.Println("left out with -short: the attacks start processes")
		os.Exit(0)
	}
	status := m.Run()
	if bin, err := build(); err == nil {
		_ = os.RemoveAll(filepath.Dir(bin)) // it lies in a folder for temporary files
	}
	if err := writeFigures(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		status = 1
	}
	os.Exit(status)
}

var measured struct {
	sync.Mutex
	rows []string
}

// measure notes what an attack came to.
func measure(what, figure string, args ...any) {
	measured.Lock()
	defer measured.Unlock()
	measured.rows = append(measured.rows, fmt.Sprintf("| %s | %s |", what, fmt.Sprintf(figure, args...)))
}

// writeFigures puts what was measured into the file's section on attacks.
func writeFigures() error {
	const begin, end = "<!-- attacks -->\n", "<!-- end of attacks -->\n"
	if *figures == "" || len(measured.rows) == 0 {
		return nil
	}
	text, err := os.ReadFile(*figures)
	if err != nil {
		return fmt.Errorf("write figures: %w", err)
	}
	from, to := strings.Index(string(text), begin), strings.Index(string(text), end)
	if from < 0 || to < from {
		return fmt.Errorf("write figures: %s has no section between %q and %q", *figures, begin, end)
	}
	table := "| attack | what it came to |\n|---|---|\n" + strings.Join(measured.rows, "\n") + "\n"
	out := string(text[:from+len(begin)]) + table + string(text[to:])
	return os.WriteFile(*figures, []byte(out), 0o644)
}

// target is a service under attack.
type target struct {
	*browser.Service
	t    *testing.T
	data string
	args []string
}

func serve(t *testing.T, args ...string) *target {
	t.Helper()
	s := &target{t: t, data: t.TempDir(), args: args}
	s.start()
	t.Cleanup(func() { s.Kill() })
	return s
}

func (s *target) start() {
	s.t.Helper()
	bin, err := build()
	require.NoError(s.t, err)
	s.Service, err = browser.Serve(bin, "serve", s.data, s.args...)
	require.NoError(s.t, err)
}

// restart ends the service in order and starts it again.
func (s *target) restart() {
	s.t.Helper()
	require.NoError(s.t, s.Stop())
	s.start()
}

// database opens the service's database while the service is stopped.
func (s *target) database(f func(db *sql.DB)) {
	s.t.Helper()
	require.NoError(s.t, s.Stop())
	db, err := sql.Open("sqlite", filepath.Join(s.data, "keenlantern.db"))
	require.NoError(s.t, err)
	f(db)
	require.NoError(s.t, db.Close())
	s.start()
}

func (s *target) do(method, path string, body io.Reader, headers ...string) (int, string) {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(s.t.Context(), 2*time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, method, s.URL+path, body)
	require.NoError(s.t, err)
	for n := 0; n < len(headers); n += 2 {
		req.Header.Set(headers[n], headers[n+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error() // the service ended the connection
	}
	defer res.Body.Close()
	said, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, err.Error()
	}
	return res.StatusCode, string(said)
}

func (s *target) get(path string, into any) {
	s.t.Helper()
	status, said := s.do(http.MethodGet, path, nil)
	require.Equal(s.t, http.StatusOK, status, "%s: %.300s", path, said)
	require.NoError(s.t, json.Unmarshal([]byte(said), into), path)
}

func (s *target) put(stream string, n int, lines string, headers ...string) (int, string) {
	s.t.Helper()
	return s.do(http.MethodPut, fmt.Sprintf("/api/v1/streams/%s/batches/%d", stream, n), strings.NewReader(lines), headers...)
}

// send sends a whole trace in batches, and waits while the service is behind.
func (s *target) send(stream, trace string) {
	s.t.Helper()
	n := 0
	for len(trace) > 0 {
		cut := min(len(trace), 1<<20)
		if cut < len(trace) {
			cut = strings.LastIndexByte(trace[:cut], '\n') + 1
		}
		n++
		for deadline := time.Now().Add(time.Minute); ; {
			status, said := s.put(stream, n, trace[:cut])
			if status == http.StatusOK {
				break
			}
			require.Equal(s.t, http.StatusTooManyRequests, status, "%.300s", said)
			require.True(s.t, time.Now().Before(deadline), "the service takes nothing any more")
			time.Sleep(50 * time.Millisecond)
		}
		trace = trace[cut:]
	}
}

func (s *target) until(what string, is func() bool) {
	s.t.Helper()
	require.Eventually(s.t, is, time.Minute, 50*time.Millisecond, what)
}

// ready waits for a service that has started to say so.
func (s *target) ready() {
	s.t.Helper()
	s.until("it is ready", func() bool {
		status, _ := s.do(http.MethodGet, "/readyz", nil)
		return status == http.StatusOK
	})
}

// alive checks that the service is up and answers.
func (s *target) alive() {
	s.t.Helper()
	status, said := s.do(http.MethodGet, "/healthz", nil)
	require.Equal(s.t, http.StatusOK, status, said)
	status, said = s.do(http.MethodGet, "/api/v1/recordings", nil)
	require.Equal(s.t, http.StatusOK, status, "%.300s", said)
}

var mostResident = regexp.MustCompile(`(?m)^Vm(RSS|HWM):\s+(\d+) kB`)

// memory returns the process's resident memory, now and at its highest, in MiB.
func (s *target) memory() (now, most int) {
	s.t.Helper()
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.PID()))
	require.NoError(s.t, err)
	for _, m := range mostResident.FindAllStringSubmatch(string(text), -1) {
		n, _ := strconv.Atoi(m[2])
		if m[1] == "RSS" {
			now = n >> 10
		} else {
			most = n >> 10
		}
	}
	return now, most
}

func zip(text []byte) []byte {
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression) // the level is one that there is
	_, _ = z.Write(text)                                  // memory takes everything
	_ = z.Close()
	return b.Bytes()
}

// address returns where the service listens.
func (s *target) address() string { return strings.TrimPrefix(s.URL, "http://") }

// dial opens a connection from one of this machine's own addresses and writes to it.
func (s *target) dial(from, say string) net.Conn {
	s.t.Helper()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}, Timeout: 10 * time.Second}
	conn, err := d.Dial("tcp", s.address())
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = conn.Close() })
	_, _ = io.WriteString(conn, say) // the service may have closed it already
	return conn
}
