// Package server is the service over HTTP: the calls of the contract (api/openapi.yaml), live events, sign-in, health,
// metrics, and the console's files.
package server

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"verimorph/api/gen"
	"verimorph/backupstore"
	"verimorph/blob"
	"verimorph/core/change"
	"verimorph/engine"
	"verimorph/imagestore"
	"verimorph/internal/catcache"
	"verimorph/planning"
	"verimorph/store"
	"verimorph/vault"
)

// Version is the version of this build.
const Version = "0.1.0"

// Config is what a server works with.
type Config struct {
	Store      *store.Store
	Engine     *engine.Engine
	Planner    *planning.Planner
	Blobs      *blob.Store
	Images     *imagestore.Images
	Catalogues *catcache.Cache
	Backups    *backupstore.Store
	Vault      *vault.Vault
	Console    fs.FS // the built console; nil: none
	// Simulation is the URL of the simulated fleet's control; "" where nothing is simulated.
	Simulation string
	Pace       change.Pace
	Log        *slog.Logger
}

// A Server answers the calls of the contract.
type Server struct {
	Config
	hub     *hub
	limiter limiter
	metrics *metrics
}

// maxBody bounds a request's body in bytes, images aside; maxImage bounds an image.
const (
	maxBody  = 4 << 20
	maxImage = 8 << 30
)

// New prepares a server. Run must be called for live events.
func New(c Config) *Server {
	s := &Server{Config: c, hub: newHub(), metrics: newMetrics(c.Store)}
	return s
}

// Run passes on what changes in the records to those who watch, until the context ends.
func (s *Server) Run(ctx context.Context) {
	s.Store.Listen(ctx, s.hub.publish)
	s.hub.close()
}

// Handler is everything the service answers.
func (s *Server) Handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.ContextWithFallback = true
	g.Use(s.observe, gin.CustomRecovery(func(c *gin.Context, err any) {
		s.Log.Error("panic", "path", c.FullPath(), "err", err)
		writeProblem(c.Writer, internal(errors.New("something broke inside the service")))
		c.Abort()
	}))
	g.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	g.GET("/readyz", s.ready)
	g.GET("/metrics", s.signedIn, gin.WrapH(promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{})))
	handlers := gen.NewStrictHandlerWithOptions(s, []gen.StrictMiddlewareFunc{s.gate}, gen.StrictGinServerOptions{
		RequestErrorHandlerFunc: func(c *gin.Context, err error) {
			writeProblem(c.Writer, badRequest("the body cannot be read: %s", err))
		},
		HandlerErrorFunc:         s.failed,
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { s.Log.Info("answer cut short", "path", c.FullPath(), "err", err) },
	})
	group := g.Group("", s.limitBody, s.signedIn)
	gen.RegisterHandlersWithOptions(group, handlers, gen.GinServerOptions{
		BaseURL:      "/api/v1",
		ErrorHandler: func(c *gin.Context, err error, _ int) { writeProblem(c.Writer, badRequest("%s", err)) },
	})
	g.GET("/api/v1/openapi.json", s.signedIn, func(c *gin.Context) {
		spec, err := gen.GetSpecJSON()
		if err != nil {
			writeProblem(c.Writer, internal(err))
			return
		}
		c.Data(http.StatusOK, "application/json", spec)
	})
	g.NoRoute(s.console)
	return g
}

// failed turns a handler's error into problem details.
func (s *Server) failed(c *gin.Context, err error) {
	p := asProblem(err)
	if p.Status >= 500 && p.Type == "internal" {
		s.Log.Error("call failed", "path", c.FullPath(), "err", err)
	}
	writeProblem(c.Writer, p)
}

func (s *Server) ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c, 2*time.Second)
	defer cancel()
	if err := s.Store.Pool.Ping(ctx); err != nil {
		c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		return
	}
	c.String(http.StatusOK, "ready\n")
}

func (s *Server) limitBody(c *gin.Context) {
	limit := int64(maxBody)
	if c.FullPath() == "/api/v1/images" || c.FullPath() == "/api/v1/uploads/:id" {
		limit = maxImage
	}
	if c.FullPath() == "/api/v1/backup-imports" {
		limit = maxImport
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
}

// zoneHeader tells with every answer in which time zone this installation tells times.
const zoneHeader = "Verimorph-Zone"

// zone is the name of the time zone of this installation.
func (s *Server) zone() string {
	if s.Engine == nil || s.Engine.Zone == nil {
		return time.UTC.String()
	}
	return s.Engine.Zone.String()
}

// observe logs and counts every call.
func (s *Server) observe(c *gin.Context) {
	began := time.Now()
	c.Header(zoneHeader, s.zone())
	c.Next()
	route := c.FullPath()
	if route == "" {
		route = "other"
	}
	took := time.Since(began)
	s.metrics.requests.WithLabelValues(c.Request.Method, route, fmt.Sprint(c.Writer.Status())).Observe(took.Seconds())
	if strings.HasPrefix(route, "/api/") {
		s.Log.Info("call", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(), "ms", took.Milliseconds(), "user", c.GetString(userName))
	}
}

// console serves the built files; every other address is the single page, which finds its own way.
func (s *Server) console(c *gin.Context) {
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		writeProblem(c.Writer, notFound("there is no call %s %s", c.Request.Method, c.Request.URL.Path))
		return
	}
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	if s.Console == nil {
		c.String(http.StatusNotFound, "This service was built without its console; build it with: make build\n")
		return
	}
	name := strings.TrimPrefix(c.Request.URL.Path, "/")
	if st, err := fs.Stat(s.Console, name); strings.HasPrefix(name, "assets/") && err == nil && !st.IsDir() {
		h.Set("Cache-Control", "public, max-age=31536000, immutable") // the name changes with the content
		http.ServeFileFS(c.Writer, c.Request, s.Console, name)
		return
	}
	page, err := fs.ReadFile(s.Console, "index.html")
	if err != nil {
		writeProblem(c.Writer, internal(err))
		return
	}
	h.Set("Cache-Control", "no-cache")
	c.Data(http.StatusOK, "text/html; charset=utf-8", page)
}

type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(st *store.Store) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "verimorph_http_request_seconds", Help: "Time to answer calls.", Buckets: []float64{.005, .02, .1, .5, 2, 10},
	}, []string{"method", "route", "status"})}
	m.registry.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), m.requests, engine.StepsEnded, engine.ChangesEnded, engine.BackupsTaken, counted{"verimorph_devices_by_backup", "Devices by the outcome of their newest backup attempt.", st.CountBackupHealth}, counted{"verimorph_changes", "Changes by state.", st.CountChanges}, counted{"verimorph_fetches", "Downloads from release sites by state.", st.CountFetches},
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "verimorph_build_info", Help: "Always 1.", ConstLabels: prometheus.Labels{"version": Version}}, func() float64 { return 1 }))
	return m
}

// counted counts records by state at the moment they are asked for.
type counted struct {
	name, help string
	count      func(context.Context) (map[string]int64, error)
}

func (c counted) desc() *prometheus.Desc {
	return prometheus.NewDesc(c.name, c.help, []string{"state"}, nil)
}

// Describe implements prometheus.Collector.
func (c counted) Describe(ch chan<- *prometheus.Desc) { ch <- c.desc() }

// Collect implements prometheus.Collector.
func (c counted) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	counts, err := c.count(ctx)
	if err != nil {
		ch <- prometheus.NewInvalidMetric(c.desc(), err)
		return
	}
	for state, n := range counts {
		ch <- prometheus.MustNewConstMetric(c.desc(), prometheus.GaugeValue, float64(n), state)
	}
}
