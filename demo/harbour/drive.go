package harbour

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// ships announce themselves in turn.
var ships = []string{"Marsh Warbler", "Grey Seal", "Sandpiper", "Old Samphire", "Sea Lavender"}

// Drive sends requests of every kind to an office, several at once, and waits for all answers. The pause after each
// keeps a demonstration watchable.
func Drive(ctx context.Context, url string, requests, atOnce int, pause time.Duration) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	client := &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: atOnce}}
	defer client.CloseIdleConnections()
	for n := range requests {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			if err := send(ctx, client, url, n); err != nil {
				return err
			}
			select {
			case <-time.After(pause):
			case <-ctx.Done():
			}
			return nil
		})
	}
	return group.Wait()
}

// Work is Drive on a running office, with a night job and a few radio messages besides.
func Work(ctx context.Context, o *Office, requests, atOnce int, pause time.Duration) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return Drive(ctx, o.URL, requests, atOnce, pause) })
	group.Go(func() error {
		for range max(1, requests/100) {
			if err := o.Night(ctx); err != nil {
				return fmt.Errorf("the night job: %w", err)
			}
		}
		return nil
	})
	group.Go(func() error {
		for n := range max(1, requests/10) {
			if err := o.Radio(ctx, ships[n%len(ships)]); err != nil {
				return fmt.Errorf("answer the radio: %w", err)
			}
		}
		return nil
	})
	return group.Wait()
}

func send(ctx context.Context, client *http.Client, url string, n int) error {
	method, path, body := http.MethodGet, "", ""
	switch n % 6 {
	case 0:
		path = "/pilots"
	case 1, 3:
		method, path = http.MethodPost, "/arrivals"
		body = fmt.Sprintf(`{"ship":%q,"draught":%.1f}`, ships[n%len(ships)], 3+float64(n%7)/2)
	case 2:
		path = []string{"/tides/outer-bar", "/tides/lock-gate", "/tides/reed-island"}[n%3]
	case 4:
		path = "/berths"
	case 5:
		method, path = http.MethodPost, "/tugs"
	}
	req, err := http.NewRequestWithContext(ctx, method, url+path, strings.NewReader(body))
	if err != nil {
		return fmt.Errorf("send request %d: %w", n, err)
	}
	res, err := client.Do(req)
	if err != nil {
		return fmt.Errorf("send request %d: %w", n, err)
	}
	defer res.Body.Close()
	said, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err != nil {
		return fmt.Errorf("read answer %d: %w", n, err)
	}
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("%s %s: %s: %s", method, path, res.Status, strings.TrimSpace(string(said)))
	}
	return nil
}
