// Package client asks a running service, as the command-line client does. It knows the API's addresses and problems and
// decodes answers into the core's own types.
package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"keenlantern.example/internal/core/views"
)

// Client asks the service at Base, such as "http://127.0.0.1:7460". The zero Client of HTTP waits up to a minute.
type Client struct {
	Base  string
	Token string
	HTTP  *http.Client
}

// Problem is the service's error, as in RFC 9457.
type Problem struct {
	Type     string `json:"type"`
	Title    string `json:"title"`
	Status   int    `json:"status"`
	Detail   string `json:"detail"`
	Expected int64  `json:"expected"`
}

// Error returns the message in the form of the project's other errors.
func (p *Problem) Error() string {
	text := strings.TrimSuffix(p.Detail, ".")
	first, size := utf8.DecodeRuneInString(text)
	return string(unicode.ToLower(first)) + text[size:]
}

// Unreachable records that no service answered.
type Unreachable struct {
	Base string
	Err  error
}

// Error returns what to do about it.
func (u *Unreachable) Error() string {
	return fmt.Sprintf("no service answers at %s (%v); start one with 'keenlantern serve', or name another with --server", u.Base, u.Err)
}

// Unwrap returns the cause.
func (u *Unreachable) Unwrap() error { return u.Err }

var patient = &http.Client{Timeout: time.Minute}

// maxAnswer bounds what is read of an answer, in bytes.
const maxAnswer = 256 << 20

func (c *Client) do(ctx context.Context, method, path string, body io.Reader, into any) error {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Base, "/")+path, body)
	if err != nil {
		return fmt.Errorf("ask the service: %w", err)
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	with := c.HTTP
	if with == nil {
		with = patient
	}
	res, err := with.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if u, ok := err.(*url.Error); ok {
			err = u.Err
		}
		return &Unreachable{c.Base, err}
	}
	defer res.Body.Close()
	in := io.LimitReader(res.Body, maxAnswer)
	if res.StatusCode >= 300 {
		p := &Problem{Status: res.StatusCode, Detail: "the service answered " + res.Status}
		_ = json.NewDecoder(in).Decode(p) // an answer that is no problem document keeps the status
		return p
	}
	if out, ok := into.(io.Writer); ok {
		if _, err := io.Copy(out, res.Body); err != nil {
			return fmt.Errorf("the service's answer breaks off: %w", err)
		}
		if e, ok := out.(interface{ ended(http.Header) }); ok {
			e.ended(res.Trailer)
		}
		return nil
	}
	if into == nil {
		return nil
	}
	if err := json.NewDecoder(in).Decode(into); err != nil {
		return &Unreachable{c.Base, fmt.Errorf("the answer is not from a Keen Lantern service: %w", err)}
	}
	return nil
}

// Recordings returns a page of recordings, newest first.
func (c *Client) Recordings(ctx context.Context, limit, offset int) (list views.RecordingList, err error) {
	err = c.do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/recordings?limit=%d&offset=%d", limit, offset), nil, &list)
	return list, err
}

// Recording returns the recording that name means, with its streams.
func (c *Client) Recording(ctx context.Context, name string) (r views.RecordingDetail, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(name), nil, &r)
	return r, err
}

// AllFindings returns all findings of a recording, page by page, filtered by the query.
func (c *Client) AllFindings(ctx context.Context, recording string, query url.Values) (all views.RecordingFindings, err error) {
	query = maps.Clone(query)
	query.Set("limit", strconv.Itoa(findingsPage))
	for offset := 0; ; offset += findingsPage {
		query.Set("offset", strconv.Itoa(offset))
		page, err := c.Findings(ctx, recording, query)
		if err != nil {
			return page, err
		}
		if offset == 0 {
			all = page
			recording = page.Recording // latest may be another one by now
		} else {
			all.Findings, all.Result.Accepted = append(all.Findings, page.Findings...), append(all.Result.Accepted, page.Result.Accepted...)
		}
		if offset+findingsPage >= max(page.Total, page.Accepted) {
			return all, nil
		}
	}
}

// findingsPage is how many findings AllFindings asks for at once.
const findingsPage = 500

// Findings returns a page of a recording's findings, filtered by the query.
func (c *Client) Findings(ctx context.Context, recording string, query url.Values) (f views.RecordingFindings, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(recording)+"/findings?"+query.Encode(), nil, &f)
	return f, err
}

// Finding returns one finding with what its examples are drawn from.
func (c *Client) Finding(ctx context.Context, recording, id string) (f views.FindingDetail, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(recording)+"/findings/"+url.PathEscape(id), nil, &f)
	return f, err
}

// PutFile sends a whole trace.
func (c *Client) PutFile(ctx context.Context, in io.Reader) (s views.Summary, err error) {
	long := *c
	long.HTTP = &http.Client{} // a long file takes as long as it takes; ctx ends it
	err = long.do(ctx, http.MethodPost, "/api/v1/recordings", in, &s)
	return s, err
}

// Play asks a question for which the recording is played again, such as "whatif", into what the core answers it with. It takes as
// long as it takes; ctx ends it.
func (c *Client) Play(ctx context.Context, recording, what string, query url.Values, into any) error {
	long := *c
	long.HTTP = &http.Client{}
	return long.View(ctx, recording, what, query, into)
}

// View asks one of a recording's questions, such as "registrations" or "scopes/12", into what the core answers it with.
func (c *Client) View(ctx context.Context, recording, what string, query url.Values, into any) error {
	return c.do(ctx, http.MethodGet, "/api/v1/recordings/"+url.PathEscape(recording)+"/"+what+"?"+query.Encode(), nil, into)
}

// Compare puts two recordings, or parts of them, side by side.
func (c *Client) Compare(ctx context.Context, a, b string) (v views.Comparison, err error) {
	err = c.do(ctx, http.MethodGet, "/api/v1/compare?"+url.Values{"a": {a}, "b": {b}, "limit": {strconv.Itoa(views.MaxRows)}}.Encode(), nil, &v)
	return v, err
}
