package cli_test

import (
	"context"
	"io"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/cli"
	"keenlantern.example/record"
)

// serving runs the service in this process until the test ends, and returns its address.
func serving(t *testing.T, folder string) (url string, stop func()) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	in, out := io.Pipe()
	ended := make(chan int, 1)
	go func() {
		ended <- cli.Main(ctx, cli.IO{Out: out, Err: t.Output(), Env: func(string) string { return "" }}, []string{"serve", "--listen", "127.0.0.1:0", "--data", folder})
		out.Close()
	}()
	first := make([]byte, 4096)
	n, err := in.Read(first)
	require.NoError(t, err)
	url = regexp.MustCompile(`http://[0-9.:]+`).FindString(string(first[:n]))
	require.NotEmpty(t, url, "%s", first[:n])
	done := false
	stop = func() {
		if !done {
			done = true
			cancel()
			assert.Equal(t, cli.Fine, <-ended)
		}
	}
	t.Cleanup(stop)
	return url, stop
}

// TestRecord checks that a running application's recording is switched on and off by command, follows a restart of the
// service, and that what it recorded is one recording with nothing missing.
func TestRecord(t *testing.T) {
	folder := t.TempDir()
	url, stop := serving(t, folder)
	env := func(name string) string { return map[string]string{"KEENLANTERN_SERVER": url, "NO_COLOR": "1"}[name] }
	rec, err := record.Start(record.Config{App: "harbour office", Version: "1.4.0", Environment: "test", Service: url, Off: true, FlushWait: time.Millisecond})
	require.NoError(t, err)
	clock := rec.Register(record.Registration{Service: "HarbourClock", Lifetime: "singleton"})
	tides := rec.Register(record.Registration{Service: "TideSource", Lifetime: "scoped"})
	wall := rec.Make(record.Making{Reg: clock})
	work := func() {
		s := rec.Open(record.Scope{Kind: "request", Name: "GET /tides"})
		rec.Use(wall, rec.Make(record.Making{Reg: tides, Scope: s}), s, time.Microsecond)
		rec.CloseScope(s)
	}
	until := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, is, 10*time.Second, 5*time.Millisecond, what)
	}
	work()
	until("it is there", func() bool {
		return strings.Contains(said(t, env, "record", "status"), "harbour office: nothing ordered")
	})
	assert.Contains(t, said(t, env, "record", "status", "harbour office"), " off ")

	assert.Contains(t, said(t, env, "record", "on", "harbour office", "--for", "1h"), "ordered on, for another 59 min")
	until("it records", func() bool { return rec.State().On })
	work()
	until("it shows it", func() bool {
		s := said(t, env, "record", "status", "harbour office")
		return strings.Contains(s, "recording") && strings.Contains(s, "yes")
	})
	assert.Contains(t, said(t, env, "record", "off", "harbour office"), "ordered off")
	until("it stops", func() bool { return !rec.State().On })
	work()
	until("it came", func() bool { return strings.Contains(said(t, env, "recordings"), "ended") })
	assert.Regexp(t, `HarbourClock +singleton`, said(t, env, "registrations", "latest"))
	assert.Contains(t, said(t, env, "scopes", "latest", "--format", "csv"), "GET /tides")
	assert.Equal(t, 2, strings.Count(said(t, env, "scopes", "latest", "--format", "csv"), "\n"), "one scope and the head")
	require.NoError(t, rec.Close(t.Context()))

	stop()
	url, _ = serving(t, folder)
	assert.Contains(t, said(t, env, "record", "status"), "harbour office: ordered off\n  no recorder has asked recently")
	late, err := record.Start(record.Config{App: "harbour office", Service: url})
	require.NoError(t, err)
	until("it follows what was ordered before", func() bool { return !late.State().On })
	require.NoError(t, late.Close(t.Context()))

	var errs strings.Builder
	for _, args := range [][]string{{"record", "paint", "x"}, {"record", "on"}, {"record", "on", "x", "--share", "0"}, {"record", "on", "x", "--for", "-1s"}} {
		assert.Equal(t, cli.WrongUsage, cli.Main(t.Context(), cli.IO{Out: io.Discard, Err: &errs, Env: env}, args), "%v", args)
	}
	assert.Equal(t, cli.Unreadable, cli.Main(t.Context(), cli.IO{Out: io.Discard, Err: &errs, Env: env}, []string{"record", "status", "absent"}))
	assert.Contains(t, errs.String(), "no recorder of absent asks")
}
