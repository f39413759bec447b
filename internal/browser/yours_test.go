package browser_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"keenlantern.example/internal/browser"
)

// TestRecordYours checks that the page says what to type, with this service's address and a token that works, and shows when the
// first event has come.
func TestRecordYours(t *testing.T) {
	s, p := open(t, browser.View{Width: 1280, Height: 800})
	require.NoError(t, p.Go("/record?runtime=Node&container=awilix"))
	text, err := p.Text("[data-yours] .lines")
	require.NoError(t, err)
	assert.Contains(t, text, "npm install "+s.URL+"/recorders/node/keenlantern-record")
	assert.Contains(t, text, "service: '"+s.URL+"'")
	assert.Contains(t, text, "keenlantern-record/awilix")
	assert.NotContains(t, text, "token", "none is wanted on loopback")
	require.NoError(t, p.Click("[data-yours] [aria-label=Runtime] button:first-child"))
	require.NoError(t, p.Wait("[data-yours] [aria-label=Container] button:nth-child(4)"))
	text, err = p.Text("[data-yours] .lines")
	require.NoError(t, err)
	assert.Contains(t, text, "samberdo.Record(rec, root)")
	text, err = p.Text("[data-come]")
	require.NoError(t, err)
	assert.Contains(t, text, "Waiting for the first event")

	const hello = `{"ev":"hello","t":0,"format":"lantern/1","app":"harbour-office","stream":"yours","start":"2031-05-04T06:00:00Z"}` + "\n"
	req, err := http.NewRequest(http.MethodPut, s.URL+"/api/v1/streams/yours/batches/1", strings.NewReader(hello))
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.NoError(t, p.Click("[data-come] a"))
	require.Eventually(t, func() bool {
		at, err := p.Value("location.pathname")
		return err == nil && strings.Contains(at, "/recordings/")
	}, 10*time.Second, 10*time.Millisecond)
	assert.Empty(t, p.Faults())
}
