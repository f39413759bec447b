package client_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/client"
	"keenlantern.example/internal/core/views"
)

// answering is a service that answers everything the same, and keeps what it was asked.
func answering(t *testing.T, answer http.HandlerFunc) (*client.Client, *[]*http.Request) {
	t.Helper()
	asked := &[]*http.Request{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		*asked = append(*asked, r)
		answer(w, r)
	}))
	t.Cleanup(s.Close)
	return &client.Client{Base: s.URL + "/", Token: "lantern-manage-secret"}, asked
}

// TestAnswers holds the message for each answer.
func TestAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		want   string
	}{
		"a problem": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusNotFound)
			_, _ = io.WriteString(w, `{"title":"Not found","status":404,"detail":"There is no recording x."}`)
		}, "there is no recording x"},
		"a page of a proxy": {func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(http.StatusBadGateway)
			_, _ = io.WriteString(w, "<html>no</html>")
		}, "the service answered 502 Bad Gateway"},
		"another server": {func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "hello") }, "the answer is not from a Keen Lantern service"},
		"half an answer": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			_, _ = io.WriteString(w, `{"recordings":[`)
		}, "the answer is not from a Keen Lantern service"},
	} {
		t.Run(name, func(t *testing.T) {
			c2, asked := answering(t, c.answer)
			_, err := c2.Recordings(t.Context(), 10, 20)
			require.ErrorContains(t, err, c.want)
			require.Len(t, *asked, 1)
			assert.Equal(t, "/api/v1/recordings?limit=10&offset=20", (*asked)[0].URL.String())
			assert.Equal(t, "Bearer lantern-manage-secret", (*asked)[0].Header.Get("Authorization"))
		})
	}
}

func TestUnreachable(t *testing.T) {
	c := &client.Client{Base: "http://127.0.0.1:1"}
	_, err := c.Recording(t.Context(), "latest")
	nobody := (*client.Unreachable)(nil)
	require.ErrorAs(t, err, &nobody)
	assert.ErrorContains(t, err, "no service answers at http://127.0.0.1:1")
	assert.ErrorContains(t, err, "'keenlantern serve'")
	require.Error(t, errors.Unwrap(nobody))

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = c.Recording(ctx, "latest")
	require.ErrorIs(t, err, context.Canceled, "a cancelled call returns the cancellation")
	_, err = (&client.Client{Base: "http://[half"}).Recording(t.Context(), "latest")
	require.ErrorContains(t, err, "ask the service")
}

// TestAddresses checks that a name cannot lead anywhere else.
func TestAddresses(t *testing.T) {
	c, asked := answering(t, func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, `{}`) })
	ctx, name := t.Context(), "../tokens?x=/#"
	var into any
	calls := map[string]func() error{
		"/api/v1/recordings/" + url.PathEscape(name):                                               func() error { _, err := c.Recording(ctx, name); return err },
		"/api/v1/recordings/" + url.PathEscape(name) + "/findings?family=captive":                  func() error { _, err := c.Findings(ctx, name, url.Values{"family": {"captive"}}); return err },
		"/api/v1/recordings/a/findings/" + url.PathEscape(name):                                    func() error { _, err := c.Finding(ctx, "a", name); return err },
		"/api/v1/recordings/" + url.PathEscape(name) + "/scopes?name=b":                            func() error { return c.View(ctx, name, "scopes", url.Values{"name": {"b"}}, &into) },
		"/api/v1/applications/" + url.PathEscape(name) + "/order":                                  func() error { _, err := c.Order(ctx, name, views.Order{On: true}); return err },
		"/api/v1/tokens/" + url.PathEscape(name):                                                   func() error { return c.RevokeToken(ctx, name) },
		"/api/v1/compare?a=" + url.QueryEscape(name) + "&b=b&limit=" + strconv.Itoa(views.MaxRows): func() error { _, err := c.Compare(ctx, name, "b"); return err },
	}
	for want, call := range calls {
		*asked = nil
		require.NoError(t, call())
		assert.Equal(t, want, (*asked)[0].URL.String())
	}
}

// TestExport checks that an export is as it came, with how much of it was lost, and that one which breaks off is an error.
func TestExport(t *testing.T) {
	text := strings.Repeat(`{"ev":"open","t":1,"scope":1}`+"\n", 100_000)
	c, _ := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Trailer", "Keenlantern-Damaged-Batches")
		_, _ = io.WriteString(w, text)
		w.Header().Set("Keenlantern-Damaged-Batches", "3")
	})
	var out bytes.Buffer
	damaged, err := c.Export(t.Context(), "latest", &out)
	require.NoError(t, err)
	assert.Equal(t, 3, damaged)
	assert.True(t, out.String() == text)

	c, _ = answering(t, func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, text[:1000])
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	})
	_, err = c.Export(t.Context(), "latest", io.Discard)
	require.ErrorContains(t, err, "breaks off")
}
