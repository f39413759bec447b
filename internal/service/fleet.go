package service

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"

	"keenlantern.example/internal/core/views"
	"keenlantern.example/internal/store"
)

// Fleet is what a service knows of the others that share its log.
type Fleet interface {
	Services() store.Services
	Answer(kind string, f func(ctx context.Context, question []byte) ([]byte, error))
	AskAll(ctx context.Context, kind string, question []byte) map[string][]byte
	Watch(kind string, f func())
	// Lag returns how many batches of this service's partitions are stored and not analysed, and for how long the first has been.
	Lag() (batches int64, since time.Duration)
	// TakenOver returns how many partitions it has taken since it began.
	TakenOver() int64
	// Published returns how many messages it has published, how long that took in all, and how many failed.
	Published() (count int64, took time.Duration, failed int64)
}

// askApplications is the question which recorders another service has heard of.
const askApplications = "applications"

// joinFleet has orders, tokens and contracts known here that are changed elsewhere, and answers other services.
func (s *service) joinFleet() {
	s.Fleet.Answer(askApplications, func(context.Context, []byte) ([]byte, error) {
		return json.Marshal(s.Desk.Applications())
	})
	again := func(kind string, read func(context.Context) error) {
		wake := make(chan struct{}, 1)
		s.Fleet.Watch(kind, func() { // it must not block, nor ask the store
			select {
			case wake <- struct{}{}:
			default:
			}
		})
		go func() {
			for {
				select {
				case <-wake:
					if err := read(s.Hub.Context()); err != nil && s.Hub.Context().Err() == nil {
						s.Log.Error("read again what another service has changed", "what", kind, "error", err)
					}
				case <-s.Hub.Context().Done():
					return
				}
			}
		}()
	}
	again("order", s.Desk.Refresh)
	again("token", s.Gate.Refresh)
	again("session", s.Gate.Refresh)
}

// getServices returns which services share the log, and how it is with their partitions.
func (s *service) getServices(c *gin.Context) error {
	list := views.ServiceList{Services: []views.ServiceState{}}
	if s.Fleet == nil {
		list.Services = append(list.Services, views.ServiceState{Version: s.Version, Derivation: s.Hub.Key(), This: true, Partitions: []int{}, Streams: s.Hub.Stats().Streams})
		c.JSON(http.StatusOK, list)
		return nil
	}
	all := s.Fleet.Services()
	list.Shared, list.Log, list.Partitions, list.Free, list.Reading = true, all.Log, all.Partitions, all.Free, all.Reading
	for _, one := range all.List {
		state := views.ServiceState{
			ID: one.ID, Address: one.Address, Version: one.Version, Derivation: one.Key, This: one.This, Partitions: one.Partitions,
			LagBatches: one.Lag, LagNS: one.LagFor.Nanoseconds(), TakenOver: one.TakenOver, Started: one.Started.UTC().Format(time.RFC3339), Streams: one.Streams,
		}
		if state.Partitions == nil {
			state.Partitions = []int{}
		}
		list.Services = append(list.Services, state)
	}
	c.JSON(http.StatusOK, list)
	return nil
}

// fleetMetrics are those of a service that shares a log.
func (s *service) fleetMetrics(r *prometheus.Registry, counter, gauge func(name, help string, value func() float64) prometheus.Collector) {
	mine := func() (held int) {
		for _, one := range s.Fleet.Services().List {
			if one.This {
				held = len(one.Partitions)
			}
		}
		return held
	}
	r.MustRegister(
		gauge("partitions_held", "Partitions that this service works on.", func() float64 { return float64(mine()) }),
		gauge("partitions_free", "Partitions that no service works on, or whose service is still reading what it found.", func() float64 {
			all := s.Fleet.Services()
			return float64(all.Free + all.Reading)
		}),
		gauge("lag_batches", "Batches of this service's partitions that are stored and not analysed.", func() float64 {
			batches, _ := s.Fleet.Lag()
			return float64(batches)
		}),
		gauge("lag_seconds", "For how long the first of them has been stored.", func() float64 {
			_, since := s.Fleet.Lag()
			return since.Seconds()
		}),
		counter("takeovers_total", "Partitions that this service has taken since it began.", func() float64 { return float64(s.Fleet.TakenOver()) }),
		counter("log_publishes_total", "Batches that were published to the log.", func() float64 {
			n, _, _ := s.Fleet.Published()
			return float64(n)
		}),
		counter("log_publish_seconds_total", "How long publishing them took, until the log had them.", func() float64 {
			_, took, _ := s.Fleet.Published()
			return took.Seconds()
		}),
		counter("log_publish_failures_total", "Publishes that failed.", func() float64 {
			_, _, failed := s.Fleet.Published()
			return float64(failed)
		}),
	)
}
