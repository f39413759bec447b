package service

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/core/views"
)

// controlRoutes adds what switches recorders.
func (s *service) controlRoutes(g *gin.RouterGroup) {
	g.GET("/applications", s.do(s.getApplications))
	g.GET("/applications/:application/order", s.do(s.getOrder))
	g.PUT("/applications/:application/order", s.do(s.putOrder))
}

type applicationList struct {
	Applications []views.Application `json:"applications"`
}

func (s *service) getApplications(c *gin.Context) error {
	c.JSON(http.StatusOK, applicationList{s.Desk.Applications()})
	return nil
}

// getOrder is a recorder's question, answered when there is something new or after a while.
func (s *service) getOrder(c *gin.Context) error {
	var errs [5]error
	r := views.Recorder{ID: c.Query("recorder"), Version: c.Query("version"), Environment: c.Query("environment"), Stream: c.Query("stream")}
	r.Knows, errs[0] = count(c, "seen")
	r.Events, errs[1] = count(c, "events")
	r.Lost, errs[2] = count(c, "lost")
	r.On, errs[3] = boolean(c, "on")
	if text := c.Query("share"); text != "" {
		if r.Share, errs[4] = strconv.ParseFloat(text, 64); errs[4] != nil {
			errs[4] = &badRequest{fmt.Sprintf("share is %q; it is a number from 0 to 1", text)}
		}
	}
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	o, err := s.Desk.Ask(c.Request.Context(), c.Param("application"), r)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, o)
	return nil
}

func count(c *gin.Context, name string) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, &badRequest{fmt.Sprintf("%s is %q; it is a whole number from 0 on", name, text)}
	}
	return n, nil
}

// maxOrder bounds the body of an order.
const maxOrder = 4 << 10

func (s *service) putOrder(c *gin.Context) error {
	var o views.Order
	in := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxOrder))
	in.DisallowUnknownFields()
	if err := in.Decode(&o); err != nil {
		return &badRequest{fmt.Sprintf("the order cannot be read (%v); it is an object with on, and share, for_ns and bytes if need be", err)}
	}
	app, err := s.Desk.Give(c.Request.Context(), c.Param("application"), o)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, app)
	return nil
}
