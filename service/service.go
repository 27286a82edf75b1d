// Package service is Iron Weir over HTTP: the API under /api/v1, described by
// /api/openapi.json, and the console.
package service

import (
	"context"
	"crypto/rand"
	"embed"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"ironweir/core/document"
	"ironweir/core/model"
	"ironweir/jobs"
	"ironweir/rehearsal"
	"ironweir/service/admission"
	"ironweir/service/isolation"
	"ironweir/store"
)

//go:embed all:site/dist
var site embed.FS

// MaxBody bounds the body of a request, in bytes.
const MaxBody = model.MaxFileBytes + 1<<20

const (
	sessionCookie = "ironweir_session"
	tlsCookie     = "__Host-" + sessionCookie // which browsers take by HTTPS alone, from this host alone
	sessionLife   = 30 * 24 * time.Hour
)

// Service answers requests.
type Service struct {
	store   *store.Store
	queue   *jobs.Queue
	options Options
	tries   attempts
	handler http.Handler
	log     *slog.Logger
	engine  *gin.Engine
	api     huma.API
	counted *prometheus.CounterVec
	taken   *prometheus.HistogramVec
	origins *http.CrossOriginProtection
	tracers journeyTracers

	budget     *admission.Controller
	pool       *isolation.Pool // nil: computations are done here
	rehearsals rehearsals
	turns      rehearsal.Turns // of all rehearsals
	// what the messages and runs of one rehearsal may take, in bytes
	rehearsalMemory int64
	callers         sync.Map // by credentials and workspace, for a few seconds
	callersKept     atomic.Int64

	only         string // the operations that it answers, by their metadata; everything: all, with records
	streams      atomic.Int64
	refusals     sync.Map // when a person was last refused an operation
	refusalsKept atomic.Int64
}

// Options say how the service is reached.
type Options struct {
	TLS         bool // by HTTPS, here or at a proxy: cookies stay on it
	BehindProxy bool // the proxy says where requests come from
	Commands    Commands
	Hooks       bool // functions of rehearsals may be answered by handlers on this machine
	// Program starts a process that calls RunIsolated: a path and its arguments, the name
	// first. Computations are done and rehearsals go on in such processes; nil: here.
	Program []string
	// names that it answers to, beside addresses and localhost; nil: to any, as a proxy has checked them
	Hosts []string
}

// New makes a service over a store and a queue for runs.
func New(s *store.Store, queue *jobs.Queue, log *slog.Logger, options Options) *Service {
	gin.SetMode(gin.ReleaseMode)
	memory := machineMemory()
	v := &Service{
		turns:           rehearsal.NewTurns(runtime.NumCPU() / 2),
		rehearsalMemory: min(budgetOf(memory).Memory/24, 512<<20),
		store:           s,
		queue:           queue,
		log:             log,
		options:         options,
		engine:          gin.New(),
		budget:          admission.New(budgetOf(memory)),
		origins:         http.NewCrossOriginProtection(),
	}
	if len(options.Program) > 0 {
		v.pool = newPool(options.Program, memory, log)
	}
	v.engine.HandleMethodNotAllowed = true
	v.measure()
	v.engine.Use(v.observe, v.recover, v.headers, limitBody)
	v.describe()
	v.console()
	compress, err := gzhttp.NewWrapper(
		gzhttp.ExceptContentTypes([]string{"text/event-stream", "font/woff2", "image/png"}),
	)
	if err != nil {
		panic(err) // the options are constants
	}
	v.handler = compress(v.engine)
	return v
}

// describe registers all operations.
func (v *Service) describe() {
	huma.DefaultArrayNullable = false // our lists are never null
	config := huma.DefaultConfig("Iron Weir", document.Version)
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", ""
	config.CreateHooks = nil
	config.RejectUnknownQueryParameters = true
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {
			Type: "apiKey", In: "cookie", Name: sessionCookie,
			Description: "by HTTPS it is named " + tlsCookie,
		},
		"token": {Type: "http", Scheme: "bearer"},
	}
	config.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	config.Info.Description = "Models of event topologies: checked, drawn and simulated. Sign in with the one-time link that the start command prints."
	v.api = humagin.New(v.engine, config)
	v.api.UseMiddleware(v.authorise, v.compute, v.rehearse)
	v.sessionRoutes()
	v.tokenRoutes()
	v.shareRoutes()
	v.peopleRoutes()
	v.workspaceRoutes()
	v.modelRoutes()
	v.textRoutes()
	v.tryRoutes()
	v.guaranteeRoutes()
	v.mendRoutes()
	v.editRoutes()
	v.runRoutes()
	v.rehearsalRoutes()
	v.observationRoutes()
	v.formatRoutes()
	v.journeyRoutes()
	v.commandRoutes()
	describeNulls(v.api.OpenAPI().Components.Schemas)
}

// Warm makes a process for computations ready, so that the first does not wait for it.
func (v *Service) Warm() {
	if v.pool != nil {
		v.pool.Warm()
	}
}

// OpenAPI gives the description of the API.
func (v *Service) OpenAPI() *huma.OpenAPI { return v.api.OpenAPI() }

// ServeHTTP answers a request; writes from other origins are refused.
func (v *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if v.options.Hosts != nil && !rehearsal.HostAllowed(r.Host, v.options.Hosts) {
		problem(w, http.StatusMisdirectedRequest, "the service does not answer to the name "+r.Host+"; -host allows it")
		return
	}
	if err := v.origins.Check(r); err != nil {
		problem(w, http.StatusForbidden, "a write from another origin is refused")
		return
	}
	if r.Method != http.MethodGet ||
		!strings.HasSuffix(r.URL.Path, "/events") { // a deadline for reading would end streams
		_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(readTime(r.URL.Path)))
	}
	v.handler.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), proxyKey{}, v.options.BehindProxy)))
}

// readTime is how long a request may take: reading it, and, since the server
// watches the connection meanwhile, answering it.
func readTime(path string) time.Duration {
	if strings.HasPrefix(path, "/api/v1/commands/") {
		return commandTime + time.Minute
	}
	return 2 * time.Minute
}

type proxyKey struct{}

// behindProxy reports whether a proxy says where requests come from.
func behindProxy(ctx context.Context) bool {
	behind, _ := ctx.Value(proxyKey{}).(bool)
	return behind
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	if status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "2")
	}
	w.WriteHeader(status)
	w.Write(
		[]byte(
			`{"title":"` + http.StatusText(status) + `","status":` + itoa(status) + `,"detail":` + quote(detail) + `}`,
		),
	)
}

func (v *Service) measure() {
	registry := prometheus.NewRegistry()
	v.counted = prometheus.NewCounterVec(
		prometheus.CounterOpts{Name: "ironweir_http_requests_total", Help: "Requests by route and status."},
		[]string{"route", "method", "status"},
	)
	v.taken = prometheus.NewHistogramVec(
		prometheus.HistogramOpts{
			Name:    "ironweir_http_request_seconds",
			Help:    "Time of requests by route.",
			Buckets: prometheus.ExponentialBuckets(0.001, 3, 9),
		},
		[]string{"route"},
	)
	registry.MustRegister(
		v.counted,
		v.taken,
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		records{v.store},
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{Name: "ironweir_streams", Help: "Streams that are open, of runs' progress and of rehearsals."},
			func() float64 { return float64(v.streams.Load()) },
		),
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{Name: "ironweir_computations", Help: "Computations on what callers sent that are done now."},
			func() float64 { return float64(v.budget.Load().Slots) },
		),
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{Name: "ironweir_computations_waiting", Help: "Computations that wait for their turn."},
			func() float64 { return float64(v.budget.Load().Waiting) },
		),
		prometheus.NewCounterFunc(
			prometheus.CounterOpts{Name: "ironweir_computations_refused_total", Help: "Computations that were refused since the budget was used up."},
			func() float64 { return float64(v.budget.Load().Refused) },
		),
		prometheus.NewGaugeFunc(
			prometheus.GaugeOpts{Name: "ironweir_rehearsals", Help: "Rehearsals that go on."},
			func() float64 { return float64(len(v.rehearsals.all())) },
		),
	)
	v.engine.GET("/metrics", gin.WrapH(promhttp.HandlerFor(registry, promhttp.HandlerOpts{})))
	v.engine.GET("/healthz", func(c *gin.Context) { c.String(http.StatusOK, "ok\n") })
	v.engine.GET("/readyz", func(c *gin.Context) {
		if err := v.store.Ping(c); err != nil {
			c.Header("Retry-After", "2")
			c.String(http.StatusServiceUnavailable, "the database cannot be reached\n")
			return
		}
		c.String(http.StatusOK, "ready\n")
	})
}

// requestID is what an id that a caller chose may look like.
var requestID = regexp.MustCompile(`^[A-Za-z0-9._-]{1,64}$`)

func (v *Service) observe(c *gin.Context) {
	began := time.Now()
	id := c.GetHeader("X-Request-Id")
	if !requestID.MatchString(id) {
		id = rand.Text()
	}
	c.Header("X-Request-Id", id)
	defer v.noteRequest(c, id, began) // also of an answer that is cut off
	c.Next()
}

func (v *Service) noteRequest(c *gin.Context, id string, began time.Time) {
	route := c.FullPath()
	if route == "" {
		route = "console"
	}
	v.counted.WithLabelValues(route, knownMethod(c.Request.Method), itoa(c.Writer.Status())).Inc()
	v.taken.WithLabelValues(route).Observe(time.Since(began).Seconds())
	v.log.Debug(
		"request",
		"method",
		c.Request.Method,
		"path",
		c.Request.URL.Path,
		"status",
		c.Writer.Status(),
		"took",
		time.Since(began),
		"request",
		id,
	)
}

// knownMethod keeps the values of a label few, whatever methods callers invent.
func knownMethod(method string) string {
	switch method {
	case http.MethodGet,
		http.MethodHead,
		http.MethodPost,
		http.MethodPut,
		http.MethodPatch,
		http.MethodDelete,
		http.MethodOptions:
		return method
	}
	return "other"
}

func (v *Service) recover(c *gin.Context) {
	defer func() {
		if r := recover(); r == http.ErrAbortHandler {
			panic(r) // the answer is cut off, which the caller is to see
		} else if r != nil {
			v.log.Error(
				"a fault of the service",
				"path",
				c.Request.URL.Path,
				"fault",
				r,
				"request",
				c.Writer.Header().Get("X-Request-Id"),
			)
			if !c.Writer.Written() {
				problem(c.Writer, http.StatusInternalServerError, "a fault of the service; its log says more")
			}
			c.Abort()
		}
	}()
	c.Next()
}

// headers keep everything that a page needs on this machine, and pages out of
// other sites' frames. Styles are set by the board's library on elements.
func (v *Service) headers(c *gin.Context) {
	h := c.Writer.Header()
	if v.options.TLS {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	h.Set(
		"Content-Security-Policy",
		"default-src 'none'; script-src 'self'; worker-src 'self' blob:; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
	c.Next()
}

func limitBody(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, MaxBody)
	c.Next()
}

// console serves the pages; every path that is no file is the application's.
func (v *Service) console() {
	dist, _ := fs.Sub(site, "site/dist")
	index, err := fs.ReadFile(dist, "index.html")
	files := http.FileServerFS(dist)
	v.engine.NoRoute(func(c *gin.Context) {
		path := strings.TrimPrefix(c.Request.URL.Path, "/")
		switch {
		case strings.HasPrefix(path, "api/"):
			problem(c.Writer, http.StatusNotFound, "there is no "+c.Request.Method+" "+c.Request.URL.Path)
		case err != nil:
			c.String(http.StatusOK, "The console has not been built into this program; `make demo` builds it.\n")
		case path != "" && path != "index.html" && exists(dist, path):
			if strings.HasPrefix(path, "assets/") {
				c.Header("Cache-Control", "public, max-age=31536000, immutable")
			}
			c.Status(http.StatusOK)
			files.ServeHTTP(c.Writer, c.Request)
		default:
			c.Header("Cache-Control", "no-cache")
			c.Data(http.StatusOK, "text/html; charset=utf-8", index)
		}
		c.Abort()
	})
}

func exists(dist fs.FS, path string) bool {
	info, err := fs.Stat(dist, path)
	return err == nil && !info.IsDir()
}

const diskFull = "the disk of the database is full: what is there can be read, nothing can be saved until there is room"

// failure turns a store's error into an answer; what names the thing.
func (v *Service) failure(err error, what string) error {
	switch {
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound("there is no " + what)
	case errors.Is(err, store.ErrConflict):
		return huma.Error409Conflict("there is a " + what + " already")
	case errors.Is(err, store.ErrLastAdmin):
		return huma.Error409Conflict("somebody must administer the service: make somebody else an administrator first")
	case errors.Is(err, store.ErrKeyReused):
		return huma.Error422UnprocessableEntity("this idempotency key was used for another request")
	case errors.Is(err, store.ErrRevisionConflict):
		return huma.Error412PreconditionFailed(
			"somebody has saved " + what + " meanwhile; look at the latest revision, then save on top of it",
		)
	case errors.Is(err, store.ErrDiskFull):
		v.log.Error("the disk of the database is full", "error", err)
		return huma.ErrorWithHeaders(
			huma.Error503ServiceUnavailable(diskFull), http.Header{"Retry-After": {"60"}})
	case errors.Is(err, store.ErrUnavailable):
		v.log.Warn("the database cannot be reached", "error", err)
		return huma.ErrorWithHeaders(
			huma.Error503ServiceUnavailable("the database cannot be reached; try again in a moment"),
			http.Header{"Retry-After": {"2"}},
		)
	case errors.Is(err, context.Canceled):
		return huma.Error408RequestTimeout("the request was given up")
	}
	v.log.Error("a fault of the service", "error", err)
	return huma.Error500InternalServerError("a fault of the service; its log says more")
}

// badFile reports what is wrong with a file, place by place.
func badFile(err error) error {
	var known huma.StatusError
	if errors.As(err, &known) {
		return err
	}
	var problems model.Problems
	if !errors.As(err, &problems) {
		return huma.Error422UnprocessableEntity(err.Error())
	}
	details := make([]error, len(problems))
	for i, p := range problems {
		details[i] = &huma.ErrorDetail{Message: p.Message, Location: p.Path, Value: p.Position}
	}
	return huma.Error422UnprocessableEntity("the file cannot be read as it stands", details...)
}
