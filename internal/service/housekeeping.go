package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// housekeepingRoutes adds what keeps recordings in order.
func (s *service) housekeepingRoutes(g *gin.RouterGroup) {
	g.PATCH("/recordings/:recording", s.do(s.patchRecording))
	g.DELETE("/recordings/:recording", s.do(s.deleteRecording))
	g.GET("/recordings/:recording/export", s.do(s.getExport))
	g.POST("/recordings/:recording/analysis", s.do(s.postAnalysis))
	g.GET("/service/retention", s.do(s.getRetention))
	g.PUT("/service/retention", s.do(s.putRetention))
	g.POST("/service/backup", s.do(s.postBackup))
}

// named adds the name to the error for an absent recording.
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

// damagedTrailer carries behind an export how many batches of it could not be read; gap lines stand for them.
const damagedTrailer = "Keenlantern-Damaged-Batches"

// steadyWriter gives each piece of a long answer its own time to be taken.
type steadyWriter struct {
	io.Writer
	conn *http.ResponseController
}

// Write writes p.
func (w *steadyWriter) Write(p []byte) (int, error) {
	_ = w.conn.SetWriteDeadline(time.Now().Add(writeFor)) // where there are no deadlines, none is set
	return w.Writer.Write(p)
}

// postAnalysis has a recording reanalysed in the background.
func (s *service) postAnalysis(c *gin.Context) error {
	name := c.Param("recording")
	n, err := s.Hub.Again(c.Request.Context(), name)
	if err != nil {
		return named(name, err)
	}
	c.JSON(http.StatusAccepted, gin.H{"streams": n})
	return nil
}

// getRetention reports whether old recordings are deleted; putRetention confirms the clock.
func (s *service) getRetention(c *gin.Context) error {
	r := s.Hub.RetentionOfAll(c.Request.Context())
	c.JSON(http.StatusOK, views.Retention{KeepForNS: s.Keep.For.Nanoseconds(), KeepBytes: s.Keep.Bytes, Held: r.Held, Why: r.Why})
	return nil
}

func (s *service) putRetention(c *gin.Context) error {
	var in struct {
		Held *bool `json:"held"`
	}
	if err := small(c, &in); err != nil {
		return err
	}
	if in.Held == nil || *in.Held {
		return &badRequest{"held has to be false: old recordings are deleted again"}
	}
	s.Hub.ResumeRetention(c.Request.Context())
	return s.getRetention(c)
}

var errCopying = errors.New("another backup is being made; try again when it is done")

// postBackup sends a copy of the database as it is at one moment.
func (s *service) postBackup(c *gin.Context) error {
	if s.Backup == nil {
		return &notHere{"this service keeps its records in a log that it shares; the log's own tools copy that"}
	}
	if !s.copying.TryLock() {
		return errCopying
	}
	defer s.copying.Unlock()
	file, err := s.Backup(c.Request.Context())
	if err != nil {
		return err
	}
	defer file.Close()
	c.Header("Content-Type", "application/vnd.sqlite3")
	c.Header("Content-Disposition", `attachment; filename="keenlantern.db"`)
	c.Status(http.StatusOK)
	if _, err := io.Copy(&steadyWriter{c.Writer, http.NewResponseController(c.Writer)}, file); err != nil {
		s.Log.Error("a backup broke off", "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}

// getExport sends the trace as it came. An error in the middle cuts the connection, so that a part is not taken for the
// whole.
func (s *service) getExport(c *gin.Context) error {
	name := c.Param("recording")
	summary, err := s.Hub.Summary(c.Request.Context(), name)
	if err != nil {
		return named(name, err)
	}
	c.Header("Content-Type", "application/x-ndjson")
	c.Header("Trailer", damagedTrailer)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", summary.ID+".ndjson"))
	c.Status(http.StatusOK)
	damaged, err := s.Hub.Export(c.Request.Context(), summary.ID, &steadyWriter{c.Writer, http.NewResponseController(c.Writer)})
	if err == nil {
		c.Writer.Header().Set(damagedTrailer, strconv.Itoa(damaged))
	} else {
		if !c.Writer.Written() {
			c.Writer.Header().Del("Content-Disposition")
			c.Writer.Header().Del("Trailer")
			return err
		}
		s.Log.Error("an export broke off", "recording", summary.ID, "error", err)
		panic(http.ErrAbortHandler)
	}
	return nil
}
