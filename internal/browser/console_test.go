package browser_test

import (
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/console"
	"keenlantern.example/internal/browser"
)

var (
	bin    string
	chrome *browser.Browser
	why    string // why these tests cannot run here
)

func TestMain(m *testing.M) {
	flag.Parse()
	if testing.Short() {
		fmt.Println("left out with -short: the pages need a service and a browser")
		os.Exit(0)
	}
	os.Exit(run(m))
}

// run builds the program and opens one Chromium for all tests. Without a built console or a Chromium the tests are
// skipped, unless KEENLANTERN_BROWSER says that they must run, as make test does.
func run(m *testing.M) int {
	folder, err := os.MkdirTemp("", "keenlantern")
	if err != nil {
		fmt.Println(err)
		return 1
	}
	defer os.RemoveAll(folder)
	if _, err := fs.Stat(console.Files(), "index.html"); err != nil {
		why = "the console has not been built; 'make console' builds it"
	} else if chrome, err = browser.Open(); errors.Is(err, browser.ErrNone) {
		why = err.Error()
	} else if err != nil {
		fmt.Println(err)
		return 1
	} else {
		defer chrome.Close()
		if bin, err = browser.Build(folder); err != nil {
			fmt.Println(err)
			return 1
		}
	}
	if why != "" && os.Getenv("KEENLANTERN_BROWSER") == "required" {
		fmt.Println(why)
		return 1
	}
	return m.Run()
}

// open starts a service, and a page on it that must not complain.
func open(t *testing.T, v browser.View) (*browser.Service, *browser.Page) {
	t.Helper()
	if why != "" {
		t.Skip(why)
	}
	s, err := browser.Serve(bin, "serve", t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop()) })
	return s, page(t, s, v)
}

func page(t *testing.T, s *browser.Service, v browser.View) *browser.Page {
	t.Helper()
	p, err := chrome.Page(s.URL, v)
	require.NoError(t, err)
	t.Cleanup(func() {
		assert.Empty(t, p.Faults())
		p.Close()
	})
	return p
}

var usual = browser.View{Width: 1280, Height: 800}

func sample(t *testing.T) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", "..", "testdata", "harbour.ndjson"))
	require.NoError(t, err)
	return string(text)
}

func put(t *testing.T, s *browser.Service, method, path, body string) {
	t.Helper()
	req, err := http.NewRequest(method, s.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Less(t, res.StatusCode, 300, path)
}

func text(t *testing.T, p *browser.Page, selector string) string {
	t.Helper()
	got, err := p.Text(selector)
	require.NoError(t, err)
	return got
}

func count(t *testing.T, p *browser.Page, selector string) int {
	t.Helper()
	n, err := p.Count(selector)
	require.NoError(t, err)
	return n
}

// TestFromListToEvidence goes the way a newcomer goes: what is wrong, where, and the evidence in time.
func TestFromListToEvidence(t *testing.T) {
	s, p := open(t, usual)
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	require.NoError(t, p.Go("/"))
	assert.Contains(t, text(t, p, "[data-recording]"), "harbour")
	require.NoError(t, p.Click("[data-recording] a"))
	assert.Equal(t, "1 mistake to fix first, the cause of 2 errors; 2 scopes, complete.", text(t, p, "[data-sentence]"))
	assert.Contains(t, text(t, p, "[data-card]"), "wiring.go:34", "where to change it")
	require.NoError(t, p.Click("[data-card] a"))
	require.NoError(t, p.Wait("[data-evidence]"))
	assert.Contains(t, text(t, p, "h1"), "PilotRoster, a singleton, keeps a TideSource of a request that has closed")
	assert.Equal(t, 1, count(t, p, `[data-life="holder"]`))
	assert.Equal(t, 1, count(t, p, `[data-life="kept"]`))
	assert.Equal(t, 1, count(t, p, `[data-use="after"]`), "the use after the end is drawn, and as such")
	assert.Equal(t, 2, count(t, p, "svg .band"))
	crossed, err := p.Truth(`(() => {
		const end = document.querySelector('[data-life="kept"] .end').getBoundingClientRect().left
		return document.querySelector('[data-use="after"]').getBoundingClientRect().left > end
	})()`)
	require.NoError(t, err)
	assert.True(t, crossed, "and stands past the end of the bar")
	at, err := p.Location()
	require.NoError(t, err)
	assert.Regexp(t, `^/recordings/\w+/findings/\w+$`, at)

	require.NoError(t, p.Back())
	require.NoError(t, p.Wait("[data-sentence]"))
	require.NoError(t, p.Back())
	require.NoError(t, p.Wait("[data-recording]"))

	// The same address opens the same view in another tab.
	other := page(t, s, browser.View{Width: 1920, Height: 1080, Dark: true})
	require.NoError(t, other.Go(at+"?scale=true"))
	require.NoError(t, other.Wait("[data-evidence]"))
	dark, err := other.Truth(`document.querySelector('.v-theme--dark')`)
	require.NoError(t, err)
	assert.True(t, dark, "it follows the system's choice")
	wide, err := other.Truth(`document.documentElement.scrollWidth <= window.innerWidth`)
	require.NoError(t, err)
	assert.True(t, wide, "nothing sticks out")
}

func TestFiltersAreInTheAddress(t *testing.T) {
	s, p := open(t, usual)
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	require.NoError(t, p.Go("/recordings/latest/findings?family=keys"))
	require.NoError(t, p.Wait("h1"))
	require.NoError(t, p.Wait(`[aria-label="Show findings of"]`))
	assert.Zero(t, count(t, p, "[data-finding]"))
	require.NoError(t, p.Go("/recordings/latest/findings?family=captive&severity=error"))
	require.NoError(t, p.Wait("[data-finding]"))
	require.NoError(t, p.Click(`[aria-label="Show findings of"] .v-chip[aria-pressed="true"]`))
	soon(t, p, "location.pathname + location.search === '/recordings/latest/findings?family=captive'")
}

// TestLive checks that pages follow a recording while it is being written, and say so when the service goes away.
func TestLive(t *testing.T) {
	s, p := open(t, usual)
	require.NoError(t, p.Go("/recordings"))
	assert.Contains(t, text(t, p, "main"), "Nothing has been recorded yet")
	lines := slices.Collect(strings.Lines(sample(t)))
	put(t, s, http.MethodPut, "/api/v1/streams/h-1/batches/1", strings.Join(lines[:6], ""))
	assert.Contains(t, text(t, p, "[data-recording]"), "running", "a new one appears by itself")
	require.NoError(t, p.Click("[data-recording] a"))
	require.NoError(t, p.Wait("[data-sentence]"))
	assert.Contains(t, text(t, p, "[data-sentence]"), "No errors, 1 lesser finding", "what the registrations say is found before it happens")
	put(t, s, http.MethodPut, "/api/v1/streams/h-1/batches/2", strings.Join(lines[6:], ""))
	require.Eventually(t, func() bool {
		return strings.Contains(text(t, p, "[data-sentence]"), "1 mistake to fix first")
	}, 30*time.Second, 50*time.Millisecond)
}

func TestServiceGoesAwayAndComesBack(t *testing.T) {
	if why != "" {
		t.Skip(why)
	}
	data := t.TempDir()
	s, err := browser.Serve(bin, "serve", data)
	require.NoError(t, err)
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	p, err := chrome.Page(s.URL, usual) // it may complain: requests fail on purpose
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.Go("/recordings"))
	require.NoError(t, p.Wait("[data-recording]"))
	require.NoError(t, s.Stop())
	assert.Contains(t, text(t, p, ".offline"), "does not answer")
	assert.Equal(t, 1, count(t, p, "[data-recording]"), "what was there stays")
	again, err := browser.Serve(bin, "serve", data, "--listen", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, again.Stop()) }()
	require.Eventually(t, func() bool { return count(t, p, ".offline") == 0 }, 15*time.Second, 100*time.Millisecond)
	put(t, again, http.MethodPost, "/api/v1/recordings", sample(t))
	require.Eventually(t, func() bool { return count(t, p, "[data-recording]") == 2 }, 30*time.Second, 100*time.Millisecond)
}

func TestNothingThere(t *testing.T) {
	s, p := open(t, usual)
	require.NoError(t, p.Go("/recordings/none"))
	assert.Contains(t, text(t, p, ".v-alert"), `There is no recording "none"`)
	require.NoError(t, p.Go("/nowhere"))
	assert.Contains(t, text(t, p, "main"), "There is no page here")
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t)+"noise\n")
	require.NoError(t, p.Go("/recordings/latest"))
	assert.Contains(t, text(t, p, "[data-refusals]"), "line 15 refused: not JSON")
}

// TestHostileNames checks that nothing in a trace becomes markup.
func TestHostileNames(t *testing.T) {
	s, p := open(t, usual)
	hostile := `<img src=x onerror=\"document.title='taken'\"><script>document.title='taken'</script>`
	put(t, s, http.MethodPost, "/api/v1/recordings", strings.NewReplacer(
		"PilotRoster", hostile, "GaugeTides", hostile, `"app":"harbour"`, `"app":"`+hostile+`"`, "wiring.go:34", hostile, "GET /pilots", hostile).Replace(sample(t)))
	require.NoError(t, p.Go("/recordings"))
	assert.Contains(t, text(t, p, "[data-recording]"), "<img src=x")
	require.NoError(t, p.Click("[data-recording] a"))
	require.NoError(t, p.Click("[data-card] a"))
	require.NoError(t, p.Wait("[data-evidence]"))
	assert.Contains(t, text(t, p, "h1"), "<script>")
	taken, err := p.Truth(`document.title === 'taken' || document.querySelector('img[src="x"]')`)
	require.NoError(t, err)
	assert.False(t, taken)
}

func TestKeyboard(t *testing.T) {
	s, p := open(t, usual)
	put(t, s, http.MethodPost, "/api/v1/recordings", sample(t))
	require.NoError(t, p.Go("/recordings"))
	require.NoError(t, p.Wait("[data-recording]"))
	for range 12 {
		require.NoError(t, p.Press("\t"))
		if there, err := p.Truth(`document.activeElement.closest('[data-recording]')`); err == nil && there {
			break
		}
	}
	require.NoError(t, p.Press("\r"))
	require.NoError(t, p.Wait("[data-sentence]"))
}
