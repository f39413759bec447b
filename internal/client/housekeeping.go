package client

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/url"

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

// Export writes a recording's trace, however long it is.
func (c *Client) Export(ctx context.Context, recording string, out io.Writer) error {
	long := *c
	long.HTTP = &http.Client{}
	return long.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(recording)+"/export", nil, out)
}
