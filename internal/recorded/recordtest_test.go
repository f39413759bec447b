package recorded_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/record"
	"keenlantern.example/record/recordtest"
	"keenlantern.example/record/wired"
)

// trial stands in for a test.
type trial struct {
	t            *testing.T
	ends         []func()
	failed, said []string
}

func (r *trial) Helper()         {}
func (r *trial) Name() string    { return r.t.Name() }
func (r *trial) TempDir() string { return r.t.TempDir() }
func (r *trial) Cleanup(f func()) {
	r.ends = append(r.ends, f)
}
func (r *trial) Logf(format string, args ...any) {
	r.said = append(r.said, fmt.Sprintf(format, args...))
}
func (r *trial) Errorf(format string, args ...any) {
	r.failed = append(r.failed, fmt.Sprintf(format, args...))
}
func (r *trial) Fatalf(format string, args ...any) { r.Errorf(format, args...) }

// TestRecordTest checks that a test fails with what is wrong in the application, unless that is accepted, and says so where
// nothing can check it.
func TestRecordTest(t *testing.T) {
	if testing.Short() {
		t.Skip("it starts processes")
	}
	bin := filepath.Join(t.TempDir(), "keenlantern")
	out, err := exec.Command("go", "build", "-o", bin, "../../cmd/keenlantern").CombinedOutput()
	require.NoError(t, err, "%s", out)
	run := func(opts ...recordtest.Option) *trial {
		r := &trial{t: t}
		rec := recordtest.Start(r, opts...)
		w := wired.New(rec)
		tides := wired.Provide(w, wired.Scoped, func(*wired.Building) (*handTides, error) { return &handTides{}, nil })
		desk := wired.Provide(w, wired.Singleton, func(b *wired.Building) (*handDesk, error) { _, err := tides.Get(b); return &handDesk{}, err })
		for range 2 {
			scope := w.Open(record.Scope{Kind: "request"})
			got(t, desk, scope)
			require.NoError(t, scope.Close())
		}
		require.NoError(t, w.Close())
		for _, end := range r.ends {
			end()
		}
		return r
	}
	r := run(recordtest.Program(bin))
	require.Len(t, r.failed, 1)
	assert.Contains(t, r.failed[0], "(captive/scoped)")
	id := strings.Split(r.failed[0], `"`)[1]
	assert.Empty(t, run(recordtest.Program(bin), recordtest.Accept(id)).failed)
	r = run(recordtest.Program(bin), recordtest.Accept(id, "gone"), recordtest.FailOn("warning"))
	assert.Empty(t, r.failed)
	assert.Contains(t, strings.Join(r.said, "\n"), "gone is accepted and was not found")
	assert.NotEmpty(t, run(recordtest.Program(bin), recordtest.FailOn("all")).failed)
	assert.NotEmpty(t, run(recordtest.Program("/nowhere/keenlantern")).failed)

	agreed := filepath.Join(t.TempDir(), "contract.yaml")
	require.NoError(t, os.WriteFile(agreed, []byte("contract: lantern-contract/1\napplication: TestRecordTest\nlifetimes:\n  - {service: handDesk, registered: scoped}\n"), 0o600))
	r = run(recordtest.Program(bin), recordtest.Accept(id), recordtest.Contract(agreed))
	require.Len(t, r.failed, 1)
	assert.Contains(t, r.failed[0], "contract")
	t.Setenv("CI", "")
	t.Setenv("KEENLANTERN", "")
	t.Setenv("PATH", t.TempDir())
	r = run()
	assert.Empty(t, r.failed)
	assert.Contains(t, r.said[0], "NOT CHECKED")
	assert.Contains(t, run(recordtest.Required()).failed[0], "NOT CHECKED")
	t.Setenv("CI", "true")
	assert.Contains(t, run().failed[0], "NOT CHECKED")
}
