package browser_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
)

// TestFaults checks that a page which complains, throws or calls another server is reported, and that nothing goes well with a browser
// that has been closed.
func TestFaults(t *testing.T) {
	if why != "" {
		t.Skip(why)
	}
	b := chrome
	other := httptest.NewServer(http.NotFoundHandler())
	defer other.Close()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<link rel="icon" href="data:,"><p id="tide">low</p><script>
			if (location.pathname === '/bad') { console.error('the gauge is stuck'); setTimeout(() => { throw new Error('no water') }); fetch(%q).catch(() => {}) }
		</script>`, other.URL)
	}))
	defer s.Close()
	p, err := b.Page(s.URL, browser.View{Width: 800, Height: 600})
	require.NoError(t, err)
	require.NoError(t, p.Go("/"))
	text, err := p.Text("#tide")
	require.NoError(t, err)
	assert.Equal(t, "low", text)
	assert.Empty(t, p.Faults())
	require.NoError(t, p.Go("/bad"))
	require.Eventually(t, func() bool { return len(p.Faults()) >= 3 }, 10*time.Second, 10*time.Millisecond, "%v", p.Faults())
	said := fmt.Sprint(p.Faults())
	assert.Contains(t, said, "the gauge is stuck")
	assert.Contains(t, said, "no water")
	assert.Contains(t, said, "a request left the service: "+other.URL)
	p.Close()
	require.ErrorContains(t, p.Go("/"), "open /")
	require.ErrorContains(t, p.Wait("#tide"), "wait for #tide")
	require.ErrorContains(t, p.Click("#tide"), "click #tide")
	require.ErrorContains(t, p.Type("#tide", "x"), "type into #tide")
	_, err = p.Text("#tide")
	require.Error(t, err)
	_, err = p.Picture()
	require.Error(t, err)
	_, err = b.Page("http://half[", browser.View{})
	require.Error(t, err)
}

// TestNoService checks that a program that does not begin to listen is reported with its output.
func TestNoService(t *testing.T) {
	_, err := browser.Serve("/bin/false", "serve", t.TempDir())
	require.ErrorContains(t, err, "the service ended at once")
	_, err = browser.Serve(filepath.Join(t.TempDir(), "nothing"), "serve", t.TempDir())
	require.ErrorContains(t, err, "start the service")
	t.Setenv("GOFLAGS", "-mod=nonsense")
	_, err = browser.Build(t.TempDir())
	require.ErrorContains(t, err, "build the program")
	t.Setenv("PATH", t.TempDir())
	_, err = browser.Open()
	require.ErrorIs(t, err, browser.ErrNone)
}
