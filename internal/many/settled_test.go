package many_test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/core/views"
)

// TestKnownEverywhere checks that what people settle at one service is so at another within a second: tokens that are made and
// revoked, who is signed in, orders that a recorder waits for elsewhere, contracts, names and deletions.
func TestKnownEverywhere(t *testing.T) {
	log, fleet := start(t, 1, 2, "--require-tokens")
	bins, err := binaries()
	require.NoError(t, err)
	a, b := fleet.URL(0), fleet.URL(1)
	ready(t, a)
	ready(t, b)
	made, err := exec.Command(bins[0], "token", "create", "manage", "--log", log.URL()).Output()
	require.NoError(t, err)
	token := strings.TrimSpace(string(made))
	call := func(method, url, body string, with ...string) (int, string, http.Header) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		for n := 0; n+1 < len(with); n += 2 {
			req.Header.Set(with[n], with[n+1])
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		text, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res.StatusCode, string(text), res.Header
	}
	soon := func(what string, is func() bool) {
		t.Helper()
		require.Eventually(t, is, 2*time.Second, 20*time.Millisecond, what)
	}
	for _, url := range []string{a, b} {
		soon("a token that was made in the log", func() bool { status, _, _ := call("GET", url+"/api/v1/recordings", ""); return status == 200 })
	}

	status, _, header := call("POST", a+"/api/v1/session", fmt.Sprintf(`{"token":%q}`, token), "Content-Type", "application/json")
	require.Less(t, status, 300)
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	require.NotEmpty(t, cookie)
	signedIn := func() bool {
		status, _, _ := call("GET", b+"/api/v1/recordings", "", "Authorization", "", "Cookie", cookie)
		return status == 200
	}
	soon("who is signed in", signedIn)

	asked := make(chan string, 1)
	go func() {
		_, text, _ := call("PUT", b+"/api/v1/applications/harbour/recorders/r1", `{"environment":"production"}`)
		asked <- text
	}()
	soon("the service asked", func() bool {
		_, text, _ := call("GET", a+"/api/v1/applications", "")
		return strings.Contains(text, `"r1"`)
	})
	status, text, _ := call("PUT", a+"/api/v1/applications/harbour/order", `{"on":true,"share":0.25}`)
	require.Equal(t, 200, status, text)
	select {
	case text := <-asked:
		var o views.Order
		require.NoError(t, json.Unmarshal([]byte(text), &o))
		assert.True(t, o.On)
		assert.InDelta(t, 0.25, o.Share, 1e-9)
	case <-time.After(2 * time.Second):
		t.Fatal("the recorder that waits at the other service was not notified")
	}

	live := make(chan string, 100)
	go func() {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, b+"/api/v1/live", nil)
		if err != nil {
			return
		}
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			return
		}
		defer res.Body.Close()
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				live <- data
			}
		}
	}()
	time.Sleep(200 * time.Millisecond) // it listens
	trace := `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour","stream":"s-1","start":"2026-03-02T05:40:00Z"}` + "\n"
	status, text, _ = call("PUT", a+"/api/v1/streams/s-1/batches/1", trace)
	require.Equal(t, 200, status, text)
	var accepted struct {
		Recording string `json:"recording"`
	}
	require.NoError(t, json.Unmarshal([]byte(text), &accepted))
	of := "/api/v1/recordings/" + accepted.Recording
	soon("a recording", func() bool { status, _, _ := call("GET", b+of, ""); return status == 200 })
	select {
	case text := <-live:
		assert.Contains(t, text, accepted.Recording)
	case <-time.After(2 * time.Second):
		t.Fatal("the listener at the other service was not notified")
	}
	status, text, _ = call("PATCH", b+of, `{"name":"after the dredger","pinned":true}`)
	require.Equal(t, 200, status, text)
	soon("its name", func() bool { _, text, _ := call("GET", a+of, ""); return strings.Contains(text, "after the dredger") })
	status, _, _ = call("DELETE", b+of, "")
	assert.Equal(t, 409, status, "it is being written, wherever it is")
	status, text, _ = call("PUT", b+"/api/v1/streams/s-1/batches/2", `{"ev":"bye","t":5}`+"\n")
	require.Equal(t, 200, status, text)
	require.Eventually(t, func() bool { status, _, _ := call("DELETE", a+of, ""); return status == 204 }, 15*time.Second, 200*time.Millisecond)
	soon("that it is gone", func() bool { status, _, _ := call("GET", b+of, ""); return status == 404 })
	status, text, _ = call("PUT", b+"/api/v1/streams/s-1/batches/3", `{"ev":"bye","t":5}`+"\n")
	assert.Equal(t, 409, status, text)
	assert.Contains(t, text, `"expected":1`)

	var list struct {
		Tokens []views.Token `json:"tokens"`
	}
	_, text, _ = call("GET", a+"/api/v1/tokens", "")
	require.NoError(t, json.Unmarshal([]byte(text), &list))
	require.Len(t, list.Tokens, 1)
	status, text, _ = call("DELETE", a+"/api/v1/tokens/"+list.Tokens[0].ID, "")
	require.Less(t, status, 300, text)
	soon("that a token was revoked", func() bool { status, _, _ := call("GET", b+"/api/v1/recordings", ""); return status == 401 })
	soon("and who was signed in with it", func() bool { return !signedIn() })
}
