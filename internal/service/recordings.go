package service

import (
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/engine"
	"keenlantern.example/internal/core/finding"
	"keenlantern.example/internal/core/triage"
	"keenlantern.example/internal/core/views"
)

// Pages of recordings.
const (
	defaultLimit = 50
	maxLimit     = 500
)

func (s *service) getRecordings(c *gin.Context) error {
	limit, err := number(c, "limit", defaultLimit, 1, maxLimit)
	if err != nil {
		return err
	}
	offset, err := number(c, "offset", 0, 0, 1<<31)
	if err != nil {
		return err
	}
	list, total, err := s.Hub.Summaries(c.Request.Context(), limit, offset)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, views.RecordingList{Recordings: list, Total: total})
	return nil
}

// number reads a query parameter.
func number(c *gin.Context, name string, otherwise, least, most int) (int, error) {
	text := c.Query(name)
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most {
		return 0, &badRequest{fmt.Sprintf("%s is %q; it is a whole number from %d to %d", name, text, least, most)}
	}
	return n, nil
}

// result returns the id of the recording that the address names, and what was found in it.
func (s *service) result(c *gin.Context) (string, *engine.Result, error) {
	name := c.Param("recording")
	id, result, err := s.Hub.Result(c.Request.Context(), name)
	return id, result, named(name, err)
}

func (s *service) getRecording(c *gin.Context) error {
	name := c.Param("recording")
	summary, streams, err := s.Hub.Recording(c.Request.Context(), name)
	if err != nil {
		return named(name, err)
	}
	c.JSON(http.StatusOK, views.RecordingDetail{Summary: summary, StreamList: streams})
	return nil
}

// accepts returns the findings that the contract of a result's application accepts.
func (s *service) accepts(r *engine.Result) map[string]string {
	if s.Accepts == nil || len(r.Streams) == 0 {
		return nil
	}
	return s.Accepts(r.Streams[0].App)
}

func (s *service) getFindings(c *gin.Context) error {
	id, result, q, err := s.found(c)
	if err != nil {
		return err
	}
	page, err := views.Findings(id, result, q)
	if err != nil {
		return missing(err)
	}
	c.JSON(http.StatusOK, page)
	return nil
}

func (s *service) getTriage(c *gin.Context) error {
	id, result, q, err := s.found(c)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, views.Triage(id, result, q))
	return nil
}

// found reads what narrows a recording's findings, and returns these: what the contract accepts is apart.
func (s *service) found(c *gin.Context) (id string, result *engine.Result, q views.FindingQuery, err error) {
	q = views.FindingQuery{Family: c.Query("family"), Rule: c.Query("rule"), Service: c.Query("service"), Group: c.Query("group"), By: triage.By(c.DefaultQuery("by", string(triage.Cause)))}
	if !slices.Contains(triage.Groupings, q.By) {
		return "", nil, q, &badRequest{fmt.Sprintf("by is %q; it is cause, registration, place, rule or scope", q.By)}
	}
	if q.Least, err = severityOf(c.Query("severity")); err != nil {
		return "", nil, q, err
	}
	if q.Limit, err = number(c, "limit", views.DefaultRows, 1, views.MaxRows); err != nil {
		return "", nil, q, err
	}
	if q.Offset, err = number(c, "offset", 0, 0, 1<<31); err != nil {
		return "", nil, q, err
	}
	if since := c.Query("since"); since != "" {
		_, before, err := s.Hub.Result(c.Request.Context(), since)
		if err != nil {
			return "", nil, q, named(since, err)
		}
		q.Known = make(map[string]bool, len(before.Findings))
		for _, f := range before.Findings {
			q.Known[f.ID] = true
		}
	}
	if id, result, err = s.result(c); err != nil {
		return "", nil, q, err
	}
	if accepted := s.accepts(result); len(accepted) > 0 {
		result = result.Without(accepted)
	}
	return id, result, q, nil
}

func severityOf(name string) (finding.Severity, error) {
	var s finding.Severity
	if name == "" {
		return finding.Note, nil
	}
	_ = s.UnmarshalText([]byte(name)) // it takes any text
	if s.String() != name {
		return 0, &badRequest{fmt.Sprintf("severity is %q; it is error, warning or note", name)}
	}
	return s, nil
}

func (s *service) getFinding(c *gin.Context) error {
	id, result, err := s.result(c)
	if err != nil {
		return err
	}
	f, err := result.Finding(c.Param("finding"))
	if err != nil {
		return &notHere{fmt.Sprintf("%v in recording %s", err, id)}
	}
	c.JSON(http.StatusOK, views.FindingDetail{Recording: id, Finding: f})
	return nil
}
