package service

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/zstd"

	"keenlantern.example/internal/access"
	"keenlantern.example/internal/control"
	"keenlantern.example/internal/ingest"
	"keenlantern.example/internal/store"
)

// Config is what a service works with.
type Config struct {
	Hub  *ingest.Hub
	Desk *control.Desk
	Gate *access.Gate

	Contracts store.Contracts
	Fleet     Fleet                                        // the services that share a log; nil: this one works alone
	Proxies   []netip.Prefix                               // whose X-Forwarded-For is trusted
	Backup    func(context.Context) (io.ReadCloser, error) // returns a copy of the database; nil: not supported
	Accepts   func(app string) map[string]string           // findings that are accepted, by their ids, with the reasons; nil: none

	Tokens  bool     // requests need one
	Hosts   []string // what the service is called, where it is not on loopback
	Console fs.FS    // the built console, index.html at its root

	Recorders fs.FS // the packed recorders, by runtime; nil: none
	Log       *slog.Logger
	Version   string
	Keep      ingest.Keep // what housekeeping uses, to be reported

	// MaxBatch and MaxFile bound bodies, in bytes, compressed and unpacked alike; 0 is the default.
	MaxBatch int64
	MaxFile  int64
}

// The bounds unless configured.
const (
	DefaultMaxBatch = 8 << 20
	DefaultMaxFile  = 64 << 30
)

type service struct {
	Config
	unzip   *zstd.Decoder
	news    news
	signIns *attempts
	answers answers
	turns   *turns
	plays   *turns

	adopting sync.Mutex // of contracts that findings are accepted into
	copying  sync.Mutex // of the database, one at a time
}

// New returns the handler of the whole service.
func New(cfg Config) (http.Handler, error) {
	if cfg.MaxBatch == 0 {
		cfg.MaxBatch = DefaultMaxBatch
	}
	if cfg.MaxFile == 0 {
		cfg.MaxFile = DefaultMaxFile
	}
	s := &service{Config: cfg, signIns: newAttempts(), turns: newTurns(turnsAtOnce), plays: newTurns(playsAtOnce)}
	var err error
	// It keeps no state between two batches.
	s.unzip, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(uint64(cfg.MaxBatch)), zstd.WithDecoderMaxWindow(maxWindow))
	if err != nil {
		return nil, fmt.Errorf("prepare to unpack batches: %w", err)
	}
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	proxies := make([]string, 0, len(cfg.Proxies)) // gin trusts every address unless it is given a list
	for _, p := range cfg.Proxies {
		proxies = append(proxies, p.String())
	}
	if err := g.SetTrustedProxies(proxies); err != nil {
		return nil, fmt.Errorf("trust proxies: %w", err)
	}
	g.HandleMethodNotAllowed = true
	g.UseRawPath, g.UnescapePathValues = true, true
	if s.Fleet != nil {
		s.joinFleet()
	}
	m := newMetrics(s)
	g.Use(m.measured, s.recovered, s.guarded, s.authorized)
	s.routes(g)
	g.GET("/metrics", m.handler())
	return s.inRoom(g), nil
}

// handler is what a route does; the error becomes a problem.
type handler func(c *gin.Context) error

func (s *service) do(h handler) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := h(c); err != nil {
			s.problem(c, err)
		}
	}
}

func (s *service) routes(g *gin.Engine) {
	api := g.Group("/api/v1")
	api.PUT("/streams/:stream/batches/:n", s.do(s.putBatch))
	api.POST("/recordings", s.do(s.postRecording))
	api.GET("/recordings", s.do(s.getRecordings))
	api.GET("/recordings/:recording", s.do(s.getRecording))
	api.GET("/recordings/:recording/findings", s.do(s.getFindings))
	api.GET("/recordings/:recording/triage", s.do(s.getTriage))
	api.GET("/recordings/:recording/findings/:finding", s.do(s.getFinding))
	s.viewRoutes(api)
	s.controlRoutes(api)
	s.contractRoutes(api)
	s.whatifRoutes(api)
	s.housekeepingRoutes(api)
	s.accessRoutes(api)
	api.GET("/services", s.do(s.getServices))
	api.GET("/live", s.do(s.getLive))
	api.GET("/openapi.json", s.do(s.getOpenAPI))
	g.POST("/v1/logs", s.do(s.postLogs))
	g.GET("/program/:system", s.do(s.getProgram))
	g.GET("/go/*file", s.do(s.getFileOf(goModules)))
	g.GET("/maven/*file", s.do(s.getFileOf(mavenRepository)))
	g.HEAD("/maven/*file", s.do(s.getFileOf(mavenRepository)))
	g.GET("/nuget/*file", s.do(s.getNuGet))
	g.GET("/composer/packages.json", s.do(s.getComposer))
	g.GET("/recorders/:runtime/:file", s.do(s.getRecorder))
	g.GET("/healthz", s.do(s.getHealth))
	g.GET("/readyz", s.do(s.getReady))
	g.NoRoute(s.do(s.getConsole))
	g.NoMethod(s.do(func(*gin.Context) error { return errMethod }))
}

func (s *service) getHealth(c *gin.Context) error {
	c.JSON(http.StatusOK, gin.H{"status": "ok", "version": s.Version})
	return nil
}

// recovered keeps a fault of ours in one request from ending the service.
func (s *service) recovered(c *gin.Context) {
	defer func() {
		if fault := recover(); fault != nil {
			if fault == http.ErrAbortHandler {
				panic(fault)
			}
			s.Log.Error("a handler broke", "path", c.Request.URL.Path, "fault", fault)
			s.problem(c, errFault)
		}
	}()
	c.Next()
}
