package many

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/http/httputil"
	"net/url"
	"sync/atomic"
)

// Balance returns what is in front of services as a load balancer does: each request goes to another one, and to the next
// where one does not answer.
func Balance(urls []string) (http.Handler, error) {
	b := &balancer{}
	for _, text := range urls {
		u, err := url.Parse(text)
		if err != nil {
			return nil, err
		}
		b.hosts = append(b.hosts, u.Host)
	}
	return &httputil.ReverseProxy{
		Rewrite:   func(r *httputil.ProxyRequest) { r.Out.URL.Scheme = "http" },
		Transport: b,
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) {
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusServiceUnavailable)
		},
	}, nil
}

type balancer struct {
	hosts []string
	turn  atomic.Int64
}

// RoundTrip asks one service after the other.
func (b *balancer) RoundTrip(r *http.Request) (*http.Response, error) {
	var body []byte
	if r.Body != nil {
		var err error
		if body, err = io.ReadAll(r.Body); err != nil {
			return nil, err
		}
	}
	first := int(b.turn.Add(1))
	var errs []error
	for k := range b.hosts {
		try := r.Clone(r.Context())
		try.URL.Host = b.hosts[(first+k)%len(b.hosts)]
		try.Host = try.URL.Host
		try.Body = io.NopCloser(bytes.NewReader(body))
		res, err := http.DefaultTransport.RoundTrip(try)
		if err == nil {
			return res, nil
		}
		errs = append(errs, err)
	}
	return nil, errors.Join(errs...)
}
