package service

import (
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/replay"
	"keenlantern.example/internal/core/views"
)

// maxSets is how many changes one question may have.
const maxSets = 32

// whatifRoutes adds what plays recordings again.
func (s *service) whatifRoutes(g *gin.RouterGroup) {
	g.GET("/recordings/:recording/whatif", s.do(s.getWhatIf))
	g.GET("/recordings/:recording/proposals", s.do(s.getProposals))
}

// answers remembers what was played, until the recording changes: a question takes as long as analysing it.
type answers struct {
	mu   sync.Mutex
	list []remembered // the latest last
}

type remembered struct {
	question string
	lines    int64
	answer   any
}

const maxRemembered = 64

func (a *answers) get(question string, lines int64) any {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, r := range a.list {
		if r.question == question && r.lines == lines {
			return r.answer
		}
	}
	return nil
}

func (a *answers) put(question string, lines int64, answer any) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.list = slices.DeleteFunc(a.list, func(r remembered) bool { return r.question == question })
	if len(a.list) == maxRemembered {
		a.list = slices.Delete(a.list, 0, 1)
	}
	a.list = append(a.list, remembered{question, lines, answer})
}

func (s *service) getWhatIf(c *gin.Context) error {
	sets := c.QueryArray("set")
	if len(sets) > maxSets {
		return &badRequest{"more changes than can be played at once: 32 at most"}
	}
	var settings []replay.Setting
	for _, text := range sets {
		one, err := replay.ParseSetting(text)
		if err != nil {
			return &badRequest{err.Error()}
		}
		settings = append(settings, one)
	}
	return s.played(c, "whatif\x00"+strings.Join(sets, "\x00"), func(src *views.Source) (any, error) {
		return replay.WhatIf(c.Request.Context(), src, settings, s.Hub.Settings(), nil)
	})
}

func (s *service) getProposals(c *gin.Context) error {
	return s.played(c, "proposals", func(src *views.Source) (any, error) {
		return replay.Propose(c.Request.Context(), src, s.Hub.Settings(), nil)
	})
}

// played answers a question by playing, unless it has been asked of the recording as it is.
func (s *service) played(c *gin.Context, question string, play func(*views.Source) (any, error)) error {
	name := c.Param("recording")
	summary, err := s.Hub.Summary(c.Request.Context(), name)
	if err != nil {
		return named(name, err)
	}
	question, lines := summary.ID+"\x00"+question, summary.Health.Lines
	answer := s.answers.get(question, lines)
	if answer == nil || summary.Stale > 0 {
		if answer, err = s.play(c, summary.ID, play); err != nil {
			return err
		}
		s.answers.put(question, lines, answer)
	}
	c.JSON(http.StatusOK, answer)
	return nil
}

// play plays a recording. Its place is free again before the caller reads the answer, which may take a while.
func (s *service) play(c *gin.Context, recording string, play func(*views.Source) (any, error)) (any, error) {
	over, err := s.plays.take(c.Request.Context(), s.asker(c))
	if err != nil {
		return nil, err
	}
	defer over()
	done, err := s.Hub.Play(c.Request.Context())
	if err != nil {
		return nil, err
	}
	defer done()
	src, err := s.source(c, recording)
	if err != nil {
		return nil, err
	}
	if err := src.Fresh(); err != nil {
		return nil, err
	}
	answer, err := play(src)
	if bad := (*replay.Wrong)(nil); errors.As(err, &bad) {
		return nil, &badRequest{bad.What}
	}
	return answer, err
}
