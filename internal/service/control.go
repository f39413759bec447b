package service

import (
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"keenlantern.example/internal/control"
	"keenlantern.example/internal/core/views"
)

// controlRoutes adds what switches recorders.
func (s *service) controlRoutes(g *gin.RouterGroup) {
	g.GET("/applications", s.do(s.getApplications))
	g.GET("/applications/:application/order", s.do(s.getOrder))
	g.PUT("/applications/:application/order", s.do(s.putOrder))
	g.PUT("/applications/:application/recorders/:recorder", s.do(s.putRecorder))
}

type applicationList struct {
	Applications []views.Application `json:"applications"`
}

func (s *service) getApplications(c *gin.Context) error {
	lists := [][]views.Application{s.Desk.Applications()}
	if s.Fleet != nil {
		for _, answer := range s.Fleet.AskAll(c.Request.Context(), askApplications, []byte("{}")) {
			var theirs []views.Application
			if json.Unmarshal(answer, &theirs) == nil {
				lists = append(lists, theirs)
			}
		}
	}
	c.JSON(http.StatusOK, applicationList{control.Merge(lists...)})
	return nil
}

// getOrder returns what an application's recorders shall do. It changes nothing.
func (s *service) getOrder(c *gin.Context) error {
	c.JSON(http.StatusOK, s.Desk.Order(c.Param("application")))
	return nil
}

// putRecorder receives a recorder's state. It is answered with its application's order: at once where that is
// not the one it knows, else when there is another, or after a while.
func (s *service) putRecorder(c *gin.Context) error {
	var r views.Recorder
	in := json.NewDecoder(http.MaxBytesReader(c.Writer, c.Request.Body, maxOrder))
	if err := in.Decode(&r); err != nil {
		return &badRequest{fmt.Sprintf("how the recorder is doing cannot be read: %v", err)}
	}
	r.ID = c.Param("recorder")
	o, err := s.Desk.Ask(c.Request.Context(), s.asker(c), c.Param("application"), r)
	if err != nil {
		return err
	}
	if !s.stillMay(c) {
		return errBadToken // it was revoked while the recorder waited
	}
	c.JSON(http.StatusOK, o)
	return nil
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
