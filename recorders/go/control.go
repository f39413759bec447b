package record

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// order is what the service wants.
type order struct {
	Version int64   `json:"version"` // it grows with each change; 0: there is no order yet
	On      bool    `json:"on"`
	Share   float64 `json:"share"`
	ForNS   int64   `json:"for_ns"`
	Bytes   int64   `json:"bytes"`
}

// doing is a recorder's state, as the service gets it.
type doing struct {
	Version     string  `json:"version"`
	Environment string  `json:"environment"`
	Stream      string  `json:"stream"`
	On          bool    `json:"on"`
	Share       float64 `json:"share"`
	Events      int64   `json:"events"`
	Lost        int64   `json:"lost"`
	Knows       int64   `json:"knows"` // the version of the order it follows
}

// The waits between questions. A service answers when it has news, or after some 25 seconds; one that answers sooner
// without news is not asked again at once.
const (
	firstAskAgain = time.Second
	lastAskAgain  = 30 * time.Second
	patience      = 20 * time.Second
)

// listen reports the recorder's state to the service in a loop, and applies its orders.
func (r *Recorder) listen(with *http.Client) {
	seen, wait := int64(0), firstAskAgain
	for {
		asked := time.Now()
		o, err := r.ask(with, seen)
		news := err == nil && o.Version > 0 && o.Version != seen
		if err == nil {
			// A service that lost its orders, or another one in its place, counts from the start again.
			seen = o.Version
		}
		if news {
			r.Set(Setting{On: o.On, Share: o.Share, For: time.Duration(o.ForNS), Bytes: o.Bytes})
		}
		if news || err == nil && time.Since(asked) >= patience {
			wait = firstAskAgain
		} else {
			select {
			case <-r.ctx.Done():
				return
			case <-time.After(jitter(wait)):
			}
			wait = min(2*wait, lastAskAgain)
		}
		if r.ctx.Err() != nil {
			return
		}
	}
}

// ask says once how the recorder is doing, and returns what the service wants.
func (r *Recorder) ask(with *http.Client, seen int64) (o order, err error) {
	state, totals := r.State(), r.Totals()
	body, err := json.Marshal(doing{
		Version: r.cfg.Version, Environment: r.cfg.Environment, Stream: r.Stream(), On: state.On, Share: state.Share,
		Events: totals.Events, Lost: totals.Lost, Knows: seen,
	})
	if err != nil {
		return o, err
	}
	at := fmt.Sprintf("%s/api/v1/applications/%s/recorders/%s", strings.TrimSuffix(r.cfg.Service, "/"), url.PathEscape(r.cfg.App), r.id)
	req, err := http.NewRequestWithContext(r.ctx, http.MethodPut, at, bytes.NewReader(body))
	if err != nil {
		return o, err
	}
	req.Header.Set("Content-Type", "application/json")
	if r.cfg.Token != "" {
		req.Header.Set("Authorization", "Bearer "+r.cfg.Token)
	}
	res, err := with.Do(req)
	if err != nil {
		return o, err
	}
	defer res.Body.Close()
	said, err := io.ReadAll(io.LimitReader(res.Body, 64<<10))
	if err != nil {
		return o, err
	}
	if err := answered(res); err != nil {
		return o, err
	}
	if err := json.Unmarshal(said, &o); err != nil {
		return o, fmt.Errorf("the answer is no order: %w", err)
	}
	return o, nil
}
