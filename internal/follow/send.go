package follow

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Sender sends a batch, packed as zstd. It returns a *Later where trying again is of use, and a *Refused where it is not.
type Sender interface {
	Send(ctx context.Context, stream string, n int64, body []byte) error
}

// Later records that a batch was not taken, and may be.
type Later struct {
	Why   string
	After time.Duration // 0: not known
}

// Error returns why.
func (l *Later) Error() string { return l.Why }

// Refused records that a batch will never be taken.
type Refused struct{ Why string }

// Error returns why.
func (r *Refused) Error() string { return r.Why }

// HTTP sends to a service at an address.
type HTTP struct {
	Base, Token string
	Client      *http.Client
}

var patient = &http.Client{
	Timeout: time.Minute,
	// A redirect is no acknowledgement.
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// maxSaid bounds what is read of an answer.
const maxSaid = 64 << 10

// Send sends a batch.
func (h *HTTP) Send(ctx context.Context, stream string, n int64, body []byte) error {
	to := fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", strings.TrimSuffix(h.Base, "/"), url.PathEscape(stream), n)
	req, err := http.NewRequestWithContext(ctx, http.MethodPut, to, bytes.NewReader(body))
	if err != nil {
		return &Refused{fmt.Sprintf("the address of the service: %v", err)}
	}
	req.Header.Set("Content-Type", "application/x-ndjson")
	req.Header.Set("Content-Encoding", "zstd")
	if h.Token != "" {
		req.Header.Set("Authorization", "Bearer "+h.Token)
	}
	client := h.Client
	if client == nil {
		client = patient
	}
	res, err := client.Do(req)
	if err != nil {
		if u := (*url.Error)(nil); errors.As(err, &u) {
			err = u.Err
		}
		return &Later{Why: fmt.Sprintf("no service answers at %s (%v)", h.Base, err)}
	}
	defer res.Body.Close()
	said, err := io.ReadAll(io.LimitReader(res.Body, maxSaid))
	if err != nil {
		return &Later{Why: fmt.Sprintf("the answer of %s broke off (%v)", h.Base, err)}
	}
	return answered(res, said, stream, n)
}

// answered reports whether an answer acknowledges a batch: a proxy's sign-in page does not.
func answered(res *http.Response, said []byte, stream string, n int64) error {
	var told struct {
		Stream string `json:"stream"`
		Batch  int64  `json:"batch"`
		Detail string `json:"detail"`
	}
	ours := json.Unmarshal(said, &told) == nil
	switch {
	case res.StatusCode == http.StatusOK && ours && told.Stream == stream && told.Batch == n:
		return nil
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500 || res.StatusCode < 400 || res.StatusCode == http.StatusRequestTimeout:
		seconds, _ := strconv.Atoi(res.Header.Get("Retry-After"))
		return &Later{Why: "the service answers " + res.Status, After: time.Duration(seconds) * time.Second}
	case res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden:
		return &Later{Why: "the service answers " + res.Status + ": " + told.Detail, After: 30 * time.Second} // a token may come
	}
	if kind, _, _ := mime.ParseMediaType(res.Header.Get("Content-Type")); kind != "application/problem+json" {
		// Only a problem document of the service is final: the error page of a proxy may be temporary.
		return &Later{Why: fmt.Sprintf("%s with content type %q; is that a Keen Lantern service?", res.Status, kind), After: 5 * time.Second}
	}
	if told.Detail == "" {
		told.Detail = res.Status
	}
	return &Refused{told.Detail}
}
