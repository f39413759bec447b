package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

const (
	liveEvery = 250 * time.Millisecond // the shortest interval between messages to a listener
	liveBeat  = 15 * time.Second       // and at least so often, so that a dead line is noticed
	liveWrite = 10 * time.Second       // for one message; a listener that does not take it is released
)

// news holds the latest message about each recording, so that it is made once for all listeners.
type news struct {
	mu     sync.Mutex
	latest map[string]*message
	made   int64 // messages
}

// message is a notification about a recording.
type message struct {
	once    sync.Once
	version uint64
	text    []byte // nil where the recording is gone
}

// maxMessages bounds how many recordings' messages are held.
const maxMessages = 256

// of returns the message about a recording as of now.
func (n *news) of(s *service, recording string) []byte {
	version := s.Hub.Version(recording)
	n.mu.Lock()
	m := n.latest[recording]
	if m == nil || m.version != version {
		if n.latest == nil || len(n.latest) >= maxMessages {
			n.latest = map[string]*message{}
		}
		m = &message{version: version}
		n.latest[recording] = m
		n.made++
	}
	n.mu.Unlock()
	m.once.Do(func() {
		summary, err := s.Hub.Summary(s.Hub.Context(), recording)
		if err != nil {
			return // it was deleted meanwhile
		}
		data, err := json.Marshal(summary)
		if err != nil {
			s.Log.Error("notify of a recording", "recording", recording, "error", err)
			return
		}
		m.text = fmt.Appendf(nil, "event: recording\ndata: %s\n\n", data)
	})
	return m.text
}

// getLive is a stream of server-sent events: "recording" with the summary of one that has changed. It ends when the token
// it was asked for with is revoked.
func (s *service) getLive(c *gin.Context) error {
	out := http.NewResponseController(c.Writer)
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	c.Status(http.StatusOK)
	listener := s.Hub.Listen()
	defer s.Hub.Ignore(listener)
	say := func(text []byte) bool {
		_ = out.SetWriteDeadline(time.Now().Add(liveWrite))
		_, err := c.Writer.Write(text)
		return err == nil
	}
	if !say([]byte("retry: 1000\n\n")) || out.Flush() != nil {
		return nil // the listener has gone
	}
	beat := time.NewTicker(liveBeat)
	defer beat.Stop()
	for {
		revoked := s.Gate.Changed()
		if !s.stillMay(c) {
			return nil
		}
		select {
		case <-c.Request.Context().Done():
			return nil
		case <-revoked:
			continue
		case <-beat.C:
			if !say([]byte(": still here\n\n")) {
				return nil
			}
		case _, open := <-listener.Wake():
			if !open {
				return nil
			}
			for _, id := range listener.Changed() {
				if text := s.news.of(s, id); text != nil && !say(text) {
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
