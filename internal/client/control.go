package client

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/url"

	"keenlantern.example/internal/core/views"
)

// Applications returns those whose recorders have asked recently, or for which something was ordered.
func (c *Client) Applications(ctx context.Context) ([]views.Application, error) {
	var list struct {
		Applications []views.Application `json:"applications"`
	}
	err := c.do(ctx, http.MethodGet, "/api/v1/applications", nil, &list)
	return list.Applications, err
}

// Services returns the services that share a log.
func (c *Client) Services(ctx context.Context) (list views.ServiceList, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/services", nil, &list)
	return list, err
}

// Order is what the recorders of an application do from now on.
func (c *Client) Order(ctx context.Context, app string, o views.Order) (a views.Application, err error) {
	body, err := json.Marshal(o)
	if err != nil {
		return a, err
	}
	err = c.do(ctx, http.MethodPut, "/api/v1/applications/"+url.PathEscape(app)+"/order", bytes.NewReader(body), &a)
	return a, err
}
