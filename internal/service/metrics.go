package service

import (
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics are the service's metrics in Prometheus' text format.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(s *service) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "keenlantern_http_request_seconds", Help: "How long requests took, by route, method and status.",
			Buckets: []float64{.001, .005, .025, .1, .5, 2.5, 10, 60},
		}, []string{"route", "method", "status"}),
	}
	counter := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "keenlantern_" + name, Help: help}, value)
	}
	gauge := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "keenlantern_" + name, Help: help}, value)
	}
	m.registry.MustRegister(
		m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		counter("ingest_batches_total", "Batches that were stored and acknowledged.", func() float64 { return float64(s.Hub.Stats().Batches) }),
		counter("ingest_bytes_total", "Bytes of lines in them, before compression.", func() float64 { return float64(s.Hub.Stats().Bytes) }),
		counter("ingest_lines_total", "Lines in them.", func() float64 { return float64(s.Hub.Stats().Lines) }),
		counter("ingest_busy_total", "Batches that were rejected with Retry-After because the service was behind.", func() float64 { return float64(s.Hub.Stats().Busy) }),
		gauge("streams_loaded", "Live streams that are in memory.", func() float64 { return float64(s.Hub.Stats().Streams) }),
		counter("live_messages_total", "Messages that were made for listeners, each for all of them.", func() float64 {
			s.news.mu.Lock()
			defer s.news.mu.Unlock()
			return float64(s.news.made)
		}),
		gauge("imports_running", "Trace files that are being read.", func() float64 { return float64(s.Hub.Stats().Imports) }),
		gauge("ingest_waiting_bytes", "Bytes held for batches that are being read or wait.", func() float64 { return float64(s.Hub.Stats().Waiting) }),
		gauge("streams_stale", "Streams that another version, or other settings, analysed, and that are being reanalysed.", func() float64 { return float64(s.Hub.Stats().Stale) }),
		gauge("streams_broken", "Streams whose analysis broke off.", func() float64 { return float64(s.Hub.Stats().Broken) }),
		gauge("retention_held", "1 while no old recordings are deleted, because the clock leapt.", func() float64 {
			if s.Hub.Retention().Held {
				return 1
			}
			return 0
		}),
		gauge("ready", "1 once all that was left over from before the start has been analysed.", func() float64 {
			if s.Hub.Ready() {
				return 1
			}
			return 0
		}),
	)
	if s.Fleet != nil {
		s.fleetMetrics(m.registry, counter, gauge)
	}
	return m
}

// measured notes how long a request took. Routes are those of the router, so that their number is bounded.
func (m *metrics) measured(c *gin.Context) {
	began := time.Now()
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	m.requests.WithLabelValues(route, methodOf(c.Request), strconv.Itoa(c.Writer.Status())).Observe(time.Since(began).Seconds())
}

// methodOf returns a request's method if it is one that HTTP has: a client may invent others, without end.
func methodOf(r *http.Request) string {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return r.Method
	}
	return "other"
}

func (m *metrics) handler() gin.HandlerFunc {
	return gin.WrapH(promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{}))
}

// getReady reports whether the service answers from everything it has accepted.
func (s *service) getReady(c *gin.Context) error {
	if !s.Hub.Ready() {
		return errNotReady
	}
	c.JSON(http.StatusOK, gin.H{"status": "ready"})
	return nil
}
