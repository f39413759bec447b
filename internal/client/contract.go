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

// Contract asks what a recording makes of a contract: of the one in the body or, where that is nil, of the one that the service
// holds. What is "contract", or "contract/draft" for a first draft.
func (c *Client) Contract(ctx context.Context, recording, what string, body io.Reader, into any) error {
	method := http.MethodGet
	if body != nil {
		method = http.MethodPost
	}
	return c.do(ctx, method, "/api/v1/recordings/"+url.PathEscape(recording)+"/"+what, body, into)
}

// HeldContract returns the contract that the service holds for an application.
func (c *Client) HeldContract(ctx context.Context, app string) (h views.HeldContract, err error) {
	err = c.do(ctx, http.MethodGet, contractPath(app), nil, &h)
	return h, err
}

// PutContract has the service hold a contract for an application, in place of any other.
func (c *Client) PutContract(ctx context.Context, app string, text io.Reader) error {
	return c.do(ctx, http.MethodPut, contractPath(app), text, nil)
}

// Adopt has the service accept a recording's findings into its application's contract, with a reason, until the end of a day such as
// 2027-03-31.
func (c *Client) Adopt(ctx context.Context, recording, reason, until string) (a views.Adopted, err error) {
	body, err := json.Marshal(map[string]string{"reason": reason, "until": until})
	if err != nil {
		return a, err
	}
	err = c.do(ctx, http.MethodPost, "/api/v1/recordings/"+url.PathEscape(recording)+"/adoption", bytes.NewReader(body), &a)
	return a, err
}

// RemoveContract has the service hold none any more.
func (c *Client) RemoveContract(ctx context.Context, app string) error {
	return c.do(ctx, http.MethodDelete, contractPath(app), nil, nil)
}

func contractPath(app string) string {
	return "/api/v1/applications/" + url.PathEscape(app) + "/contract"
}
