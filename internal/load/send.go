package load

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Batch is what Send sends: the n-th batch of a stream, to the service at URL.
type Batch struct {
	URL, Stream string
	N           int
	Body        []byte
	Encoding    string // of Body; "" is plain
}

// Send sends a batch until it is taken, whatever becomes of the service meanwhile, and returns how often it was rejected for now.
// It rests so long between two attempts. It gives up when ctx ends, or when the service refuses the batch.
func Send(ctx context.Context, client *http.Client, b Batch, rest time.Duration) (putOff int, err error) {
	for ctx.Err() == nil {
		req, err := http.NewRequestWithContext(ctx, http.MethodPut, fmt.Sprintf("%s/api/v1/streams/%s/batches/%d", b.URL, b.Stream, b.N), bytes.NewReader(b.Body))
		if err != nil {
			return putOff, err
		}
		if b.Encoding != "" {
			req.Header.Set("Content-Encoding", b.Encoding)
		}
		res, err := client.Do(req)
		if err != nil {
			time.Sleep(rest)
			continue
		}
		said, _ := io.ReadAll(io.LimitReader(res.Body, 1000)) // it only explains a refusal
		res.Body.Close()
		switch {
		case res.StatusCode == http.StatusOK:
			return putOff, nil
		case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
			putOff++
			time.Sleep(rest)
		default:
			return putOff, fmt.Errorf("batch %d of %s: %s: %s", b.N, b.Stream, res.Status, said)
		}
	}
	return putOff, fmt.Errorf("batch %d of %s was not taken: %w", b.N, b.Stream, ctx.Err())
}
