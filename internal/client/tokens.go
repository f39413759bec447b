package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"keenlantern.example/internal/core/views"
)

// Tokens returns all tokens of the service.
func (c *Client) Tokens(ctx context.Context) ([]views.Token, error) {
	var list struct {
		Tokens []views.Token `json:"tokens"`
	}
	err := c.do(ctx, http.MethodGet, "/api/v1/tokens", nil, &list)
	return list.Tokens, err
}

// CreateToken makes a token and returns it with its secret.
func (c *Client) CreateToken(ctx context.Context, kind, name string) (t views.NewToken, err error) {
	body, err := json.Marshal(map[string]string{"kind": kind, "name": name})
	if err != nil {
		return t, err
	}
	err = c.do(ctx, http.MethodPost, "/api/v1/tokens", bytes.NewReader(body), &t)
	return t, err
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/api/v1/tokens/"+url.PathEscape(id), nil, nil)
}
