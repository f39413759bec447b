package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"keenlantern.example/docs"
	"keenlantern.example/internal/core/contract"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// contractRoutes adds what keeps contracts, and holds recordings against them.
func (s *service) contractRoutes(g *gin.RouterGroup) {
	g.GET("/applications/:application/contract", s.do(s.getContract))
	g.PUT("/applications/:application/contract", s.do(s.putContract))
	g.DELETE("/applications/:application/contract", s.do(s.deleteContract))
	g.GET("/contract.schema.json", s.do(func(c *gin.Context) error {
		c.Data(http.StatusOK, "application/schema+json", docs.ContractSchema)
		return nil
	}))
	g.GET("/recordings/:recording/contract", s.working(s.judgeByHeld))
	g.POST("/recordings/:recording/contract", s.working(s.judgeByGiven))
	g.GET("/recordings/:recording/contract/draft", s.do(s.getDraft))
	g.POST("/recordings/:recording/adoption", s.do(s.postAdoption))
}

// Accepts returns what the contracts that are held accept now: findings by their ids, with the reasons, for an application.
func Accepts(held store.Contracts, log *slog.Logger) func(app string) map[string]string {
	var mu sync.Mutex
	type read struct {
		put time.Time
		c   *contract.Contract
	}
	known := map[string]read{}
	return func(app string) map[string]string {
		one, err := held.Contract(context.Background(), app)
		if err != nil {
			if !errors.Is(err, store.ErrNotFound) {
				log.Warn("a contract cannot be read: what it accepts counts", "application", app, "error", err)
			}
			return nil
		}
		mu.Lock()
		defer mu.Unlock()
		have, ok := known[app]
		if !ok || !have.put.Equal(one.Put) {
			have = read{put: one.Put}
			if have.c, err = contract.Read("the contract", one.Body); err != nil {
				log.Warn("a contract cannot be used: what it accepts counts", "application", app, "error", err)
			}
			if len(known) == maxKnown {
				clear(known)
			}
			known[app] = have
		}
		if have.c == nil {
			return nil
		}
		return have.c.Accepts(time.Now())
	}
}

// maxKnown is how many contracts are kept as they were read.
const maxKnown = 1000

// misagreed is a contract that cannot be held against a recording: it has mistakes, or is for another one.
type misagreed struct {
	err      error
	mistakes []gin.H
}

func (e *misagreed) Error() string { return e.err.Error() }

// disagrees returns the error of an unusable contract.
func disagrees(err error) error {
	m := &misagreed{err: err, mistakes: []gin.H{}}
	var walk func(error)
	walk = func(err error) {
		var one *contract.Mistake
		if many, ok := err.(interface{ Unwrap() []error }); ok {
			for _, e := range many.Unwrap() {
				walk(e)
			}
		} else if errors.As(err, &one) {
			m.mistakes = append(m.mistakes, gin.H{"line": one.Line, "column": one.Column, "what": one.What})
		}
	}
	walk(err)
	return m
}

func (s *service) readContract(c *gin.Context, name string) (*contract.Contract, []byte, error) {
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, contract.MaxSize))
	if err != nil {
		if cut := (*http.MaxBytesError)(nil); errors.As(err, &cut) {
			return nil, nil, &tooLarge{"the contract", contract.MaxSize}
		}
		return nil, nil, &badRequest{fmt.Sprintf("the contract cannot be read: %v", err)}
	}
	read, err := contract.Read(name, text)
	if err != nil {
		return nil, nil, disagrees(err)
	}
	return read, text, nil
}

// unheld returns which application no contract is held for.
func unheld(c *gin.Context, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &notHere{fmt.Sprintf("no contract is held for %s", c.Param("application"))}
	}
	return err
}

func (s *service) getContract(c *gin.Context) error {
	held, err := s.Contracts.Contract(c.Request.Context(), c.Param("application"))
	if err != nil {
		return unheld(c, err)
	}
	c.JSON(http.StatusOK, views.HeldContract{Application: held.App, Text: string(held.Body), Put: finding.Time(held.Put)})
	return nil
}

func (s *service) putContract(c *gin.Context) error {
	app := c.Param("application")
	read, text, err := s.readContract(c, "the contract")
	if err != nil {
		return err
	}
	if read.Application != app {
		return &badRequest{fmt.Sprintf("the contract is for the application %q, and the address names %q", read.Application, app)}
	}
	held := store.Contract{App: app, Body: text, Put: time.Now()}
	if err := s.Contracts.SetContract(c.Request.Context(), held); err != nil {
		return err
	}
	c.JSON(http.StatusOK, views.HeldContract{Application: app, Text: string(text), Put: finding.Time(held.Put)})
	return nil
}

func (s *service) deleteContract(c *gin.Context) error {
	if err := s.Contracts.DropContract(c.Request.Context(), c.Param("application")); err != nil {
		return unheld(c, err)
	}
	c.Status(http.StatusNoContent)
	return nil
}

// judgeByHeld holds a recording against the contract of its application.
func (s *service) judgeByHeld(c *gin.Context) (any, error) {
	name := c.Param("recording")
	summary, err := s.Hub.Summary(c.Request.Context(), name)
	if err != nil {
		return nil, named(name, err)
	}
	held, err := s.Contracts.Contract(c.Request.Context(), summary.App)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &notHere{fmt.Sprintf("the service holds no contract for %s; 'keenlantern contract draft' writes one, 'keenlantern contract put' has the service hold it", summary.App)}
	}
	if err != nil {
		return nil, err
	}
	src, err := s.source(c, name)
	if err != nil {
		return nil, err
	}
	read, err := contract.Read("the contract", held.Body)
	if err != nil {
		return nil, disagrees(err) // a later version's
	}
	return judged(read, src)
}

// judgeByGiven holds a recording against the contract in the request. Nothing is kept of it.
func (s *service) judgeByGiven(c *gin.Context) (any, error) {
	name := c.Query("name")
	if name == "" || len(name) > 200 {
		name = "the contract"
	}
	read, _, err := s.readContract(c, name)
	if err != nil {
		return nil, err
	}
	src, err := s.source(c, c.Param("recording"))
	if err != nil {
		return nil, err
	}
	return judged(read, src)
}

func judged(read *contract.Contract, src *views.Source) (any, error) {
	if err := src.Fresh(); err != nil {
		return nil, err
	}
	r, err := contract.Check(read, src, time.Now())
	if err != nil {
		return nil, disagrees(err)
	}
	return r, nil
}

// adoption is the body of a request to accept findings.
type adoption struct {
	Reason string `json:"reason"`
	Until  string `json:"until"`
}

// postAdoption accepts a recording's findings into its application's contract, which is created if the service holds none. The query selects
// findings as for the list of findings.
func (s *service) postAdoption(c *gin.Context) error {
	var asked adoption
	if err := small(c, &asked); err != nil {
		return err
	}
	until, err := time.Parse(time.DateOnly, asked.Until)
	if err != nil {
		return &badRequest{fmt.Sprintf("until is %q; it is a day such as 2027-03-31", asked.Until)}
	}
	_, result, q, err := s.found(c)
	if err != nil {
		return err
	}
	findings, err := views.Chosen(result, q)
	if err != nil {
		return missing(err)
	}
	summary, err := s.Hub.Summary(c.Request.Context(), c.Param("recording"))
	if err != nil {
		return named(c.Param("recording"), err)
	}
	s.adopting.Lock() // what it reads, it writes back
	defer s.adopting.Unlock()
	held, err := s.Contracts.Contract(c.Request.Context(), summary.App)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	now := time.Now()
	adopted, err := contract.Adopt("the contract", summary.App, held.Body, findings, asked.Reason, until, now)
	if err != nil {
		return &badRequest{err.Error()}
	}
	if adopted.Accepted > 0 {
		if err := s.Contracts.SetContract(c.Request.Context(), store.Contract{App: summary.App, Body: adopted.Text, Put: now}); err != nil {
			return err
		}
	}
	c.JSON(http.StatusOK, views.Adopted{Application: summary.App, Accepted: adopted.Accepted, Before: len(result.Accepted) + adopted.Before, Until: until.Format(time.DateOnly)})
	return nil
}

func (s *service) getDraft(c *gin.Context) error {
	done, err := s.turns.take(c.Request.Context(), s.asker(c))
	if err != nil {
		return err
	}
	defer done()
	src, err := s.source(c, c.Param("recording"))
	if err != nil {
		return err
	}
	c.Data(http.StatusOK, "application/yaml; charset=utf-8", []byte(contract.Draft(src)))
	return nil
}
