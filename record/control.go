package record

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// order is what the service wants.
type order struct {
	Version int64   `json:"version"` // it grows with each change; 0: nobody has said anything yet
	On      bool    `json:"on"`
	Share   float64 `json:"share"`
	ForNS   int64   `json:"for_ns"`
	Bytes   int64   `json:"bytes"`
}

// The waits between questions that failed.
const (
	firstAskAgain = time.Second
	lastAskAgain  = 30 * time.Second
)

// listen asks the service again and again whether to record; it answers when that has changed, or after a while.
func (r *Recorder) listen(with *http.Client) {
	seen, wait := int64(0), firstAskAgain
	for {
		o, err := r.ask(with, seen)
		if err != nil {
			select {
			case <-r.ctx.Done():
				return
			case <-time.After(wait):
			}
			wait = min(2*wait, lastAskAgain)
			continue
		}
		wait = firstAskAgain
		if o.Version != seen && o.Version > 0 {
			seen = o.Version
			r.Set(Setting{On: o.On, Share: o.Share, For: time.Duration(o.ForNS), Bytes: o.Bytes})
		}
	}
}

// ask asks once, and says how the recorder is doing.
func (r *Recorder) ask(with *http.Client, seen int64) (o order, err error) {
	state, totals := r.State(), r.Totals()
	q := url.Values{
		"recorder": {r.id}, "seen": {strconv.FormatInt(seen, 10)}, "on": {strconv.FormatBool(state.On)},
		"share": {strconv.FormatFloat(state.Share, 'g', -1, 64)}, "events": {strconv.FormatInt(totals.Events, 10)},
		"lost": {strconv.FormatInt(totals.Lost, 10)}, "version": {r.cfg.Version}, "environment": {r.cfg.Environment}, "stream": {r.Stream()},
	}
	at := fmt.Sprintf("%s/api/v1/applications/%s/order?%s", strings.TrimSuffix(r.cfg.Service, "/"), url.PathEscape(r.cfg.App), q.Encode())
	req, err := http.NewRequestWithContext(r.ctx, http.MethodGet, at, nil)
	if err != nil {
		return o, err
	}
	if r.cfg.Token != "" {
		req.Header.Set("Authorization", "Bearer "+r.cfg.Token)
	}
	res, err := with.Do(req)
	if err != nil {
		return o, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return o, errors.New(res.Status)
	}
	err = json.NewDecoder(io.LimitReader(res.Body, 64<<10)).Decode(&o)
	return o, err
}
