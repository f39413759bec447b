package client

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"keenlantern.example/internal/core/views"
)

// Change names, labels, pins or unpins a recording.
func (c *Client) Change(ctx context.Context, recording string, change map[string]any) (s views.Summary, err error) {
	body, err := json.Marshal(change)
	if err != nil {
		return s, err
	}
	err = c.do(ctx, http.MethodPatch, "/api/v1/recordings/"+url.PathEscape(recording), bytes.NewReader(body), &s)
	return s, err
}

// Delete deletes a recording for good.
func (c *Client) Delete(ctx context.Context, recording string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/recordings/"+url.PathEscape(recording), nil, nil)
}

// Export writes a recording's trace, however long it is. It returns how many batches the service could not read: gap lines
// stand for them.
func (c *Client) Export(ctx context.Context, recording string, out io.Writer) (damaged int, err error) {
	long := *c
	long.HTTP = &http.Client{}
	into := &exported{Writer: out}
	err = long.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(recording)+"/export", nil, into)
	damaged, _ = strconv.Atoi(into.trailer.Get("Keenlantern-Damaged-Batches")) // absent is none
	return damaged, err
}

// Backup writes a copy of the service's database to out.
func (c *Client) Backup(ctx context.Context, out io.Writer) error {
	long := *c
	long.HTTP = &http.Client{}
	return long.do(ctx, http.MethodPost, "/api/v1/service/backup", nil, &exported{Writer: out})
}

// exported is where an export goes, and what stands behind it.
type exported struct {
	io.Writer
	trailer http.Header
}

func (e *exported) ended(trailer http.Header) { e.trailer = trailer }

// Again has the streams of a recording reanalysed, in the background, and returns how many there are.
func (c *Client) Again(ctx context.Context, recording string) (int, error) {
	var said struct {
		Streams int `json:"streams"`
	}
	err := c.do(ctx, http.MethodPost, "/api/v1/recordings/"+url.PathEscape(recording)+"/analysis", nil, &said)
	return said.Streams, err
}

// Retention returns what the service deletes, and whether it does.
func (c *Client) Retention(ctx context.Context) (r views.Retention, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/service/retention", nil, &r)
	return r, err
}

// ResumeRetention reports that the service's clock is right: old recordings are deleted again.
func (c *Client) ResumeRetention(ctx context.Context) (r views.Retention, err error) {
	err = c.do(ctx, http.MethodPut, "/api/v1/service/retention", strings.NewReader(`{"held":false}`), &r)
	return r, err
}
