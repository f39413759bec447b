package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
)

const (
	liveEvery = 250 * time.Millisecond // at most so often is a listener told
	liveBeat  = 15 * time.Second       // and at least so often, so that a dead line is noticed
)

// getLive is a stream of server-sent events: "recording" with the summary of one that has changed.
func (s *service) getLive(c *gin.Context) error {
	out := http.NewResponseController(c.Writer)
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	c.Status(http.StatusOK)
	listener := s.Hub.Listen()
	defer s.Hub.Ignore(listener)
	if _, err := fmt.Fprint(c.Writer, "retry: 1000\n\n"); err != nil {
		return nil // the listener has gone
	}
	if err := out.Flush(); err != nil {
		return nil
	}
	beat := time.NewTicker(liveBeat)
	defer beat.Stop()
	for {
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-beat.C:
			if _, err := fmt.Fprint(c.Writer, ": still here\n\n"); err != nil {
				return nil
			}
		case _, open := <-listener.Wake():
			if !open {
				return nil
			}
			for _, id := range listener.Changed() {
				if err := s.sendChange(c, id); err != nil {
					return nil
				}
			}
		}
		if err := out.Flush(); err != nil {
			return nil
		}
		select {
		case <-time.After(liveEvery):
		case <-c.Request.Context().Done():
			return nil
		}
	}
}

func (s *service) sendChange(c *gin.Context, recording string) error {
	summary, err := s.Hub.Summary(c.Request.Context(), recording)
	if err != nil {
		return nil // it was deleted meanwhile
	}
	data, err := json.Marshal(summary)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(c.Writer, "event: recording\ndata: %s\n\n", data)
	return err
}
