package browser_test

import (
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
)

// TestSignIn checks that a service that wants a token asks for it once, goes on to the page that was wanted, and that the
// token is kept where no script finds it.
func TestSignIn(t *testing.T) {
	if why != "" {
		t.Skip(why)
	}
	data := t.TempDir()
	secret, err := exec.Command(bin, "token", "create", "read", "--data", data).Output()
	require.NoError(t, err)
	s, err := browser.Serve(bin, "serve", data, "--require-tokens")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Stop()) })
	// No look at what the browser complains of: the refusals are what this is about.
	p, err := chrome.Page(s.URL, usual)
	require.NoError(t, err)
	t.Cleanup(p.Close)
	require.NoError(t, p.Go("/recordings?limit=5"))
	require.NoError(t, p.Wait("input[type=password]"))
	at, err := p.Location()
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(at, "/sign-in?next=/recordings"), at)
	enter := func(what string) {
		require.NoError(t, p.Do(chromedp.SendKeys(chromedp.CSS("input[type=password]"), what)))
		require.NoError(t, p.Press("\r"))
	}
	enter("lantern-read-guessed")
	assert.Contains(t, text(t, p, ".v-alert"), "not known here")
	require.NoError(t, p.Go("/sign-in?next=//elsewhere.example/"))
	require.NoError(t, p.Wait("input[type=password]"))
	enter(strings.TrimSpace(string(secret)))
	require.Eventually(t, func() bool {
		at, err = p.Location()
		return err == nil && at == "/recordings"
	}, 5*time.Second, 20*time.Millisecond, "never to another site")
	require.Eventually(t, func() bool { return strings.Contains(text(t, p, "main"), "keenlantern import") }, 5*time.Second, 20*time.Millisecond)
	hidden, err := p.Truth(`!document.cookie.includes("lantern-")`)
	require.NoError(t, err)
	assert.True(t, hidden)
}
