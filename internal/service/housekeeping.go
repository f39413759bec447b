package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// housekeepingRoutes adds what keeps recordings in order.
func (s *service) housekeepingRoutes(g *gin.RouterGroup) {
	g.PATCH("/recordings/:recording", s.do(s.patchRecording))
	g.DELETE("/recordings/:recording", s.do(s.deleteRecording))
	g.GET("/recordings/:recording/export", s.do(s.getExport))
}

// named makes an absent recording an answer that says which one.
func named(name string, err error) error {
	if errors.Is(err, store.ErrNotFound) {
		return &notHere{fmt.Sprintf("there is no recording %q; GET /api/v1/recordings lists those there are", name)}
	}
	return err
}

// maxChange bounds the body of a change.
const maxChange = 64 << 10

func (s *service) patchRecording(c *gin.Context) error {
	var change views.Change
	in := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxChange))
	in.DisallowUnknownFields()
	if err := in.Decode(&change); err != nil {
		return &badRequest{fmt.Sprintf("the change cannot be read (%v); it is an object with name, pinned or labels", err)}
	}
	name := c.Param("recording")
	summary, err := s.Hub.Change(c.Request.Context(), name, change)
	if err != nil {
		return named(name, err)
	}
	c.JSON(http.StatusOK, summary)
	return nil
}

func (s *service) deleteRecording(c *gin.Context) error {
	name := c.Param("recording")
	if err := s.Hub.Delete(c.Request.Context(), name); err != nil {
		return named(name, err)
	}
	c.Status(http.StatusNoContent)
	return nil
}

// getExport sends the trace as it came. An error in the middle cuts the connection, so that nobody takes a part for the
// whole.
func (s *service) getExport(c *gin.Context) error {
	name := c.Param("recording")
	summary, err := s.Hub.Summary(c.Request.Context(), name)
	if err != nil {
		return named(name, err)
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", summary.ID+".ndjson"))
	c.Status(http.StatusOK)
	if err := s.Hub.Export(c.Request.Context(), summary.ID, c.Writer); err != nil {
		if !c.Writer.Written() {
			c.Writer.Header().Del("Content-Disposition")
			return err
		}
		s.Log.Error("an export broke off", "recording", summary.ID, "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}
