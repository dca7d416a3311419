// Package api carries the service over HTTP: routes, wire formats, problem details (RFC 9457), the event stream, and the console's
// files. It decides nothing about projects; it checks only what HTTP brings with it.
package api

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"mime"
	"net/http"
	"net/netip"
	"os"
	"path"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"kettletarn/internal/admission"
	"kettletarn/internal/core/model"
	"kettletarn/internal/core/sheet"
	"kettletarn/internal/core/text"
	"kettletarn/internal/pages"
	"kettletarn/internal/service"
	"kettletarn/internal/service/ground"
)

// Prefix stands before every route.
const Prefix = "/api/v1"

// cookie is the console's sign-in.
const cookie = "tarn_console"

// Server answers HTTP. Safe for concurrent use.
type Server struct {
	echo    *echo.Echo
	service *service.Service
	gate    *admission.Gate
	version string
	log     *slog.Logger
	// Observe, unless nil, hears of each request when it was answered. It is set before the server serves.
	Observe func(method, route string, status int, took time.Duration)
}

// New makes a server. console holds the console's built files, index.html among them.
func New(svc *service.Service, console fs.FS, version string, log *slog.Logger) *Server {
	s := &Server{echo: echo.New(), service: svc, gate: admission.New(), version: version, log: log}
	e := s.echo
	e.Logger = log
	e.HTTPErrorHandler = s.fail
	e.Use(middleware.RequestIDWithConfig(middleware.RequestIDConfig{Generator: rand.Text, TargetHeader: "X-Request-ID"}))
	e.Use(s.logged, middleware.Recover(), s.headers, sameOrigin, packed())
	e.GET("/healthz", func(c *echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/readyz", func(c *echo.Context) error {
		if err := svc.Ready(c.Request().Context()); err != nil {
			return err
		}
		free, _ := svc.Room(c.Request().Context())
		return c.String(http.StatusOK, "ok, "+free+" left\n")
	})
	e.GET(Prefix+"/openapi.json", func(c *echo.Context) error { return c.JSON(http.StatusOK, Document()) })
	s.register(e.Group(Prefix))
	e.RouteNotFound(Prefix+"/*", func(*echo.Context) error { return echo.ErrNotFound })
	e.GET("/*", echo.WrapHandler(pages.Serve(console, nil)))
	return s
}

// ServeHTTP makes Server an http.Handler.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	admission.Answer(w, func(w http.ResponseWriter) { s.echo.ServeHTTP(w, r) })
}

// call is one request with what was found out about it.
type call struct {
	*echo.Context
	route   *route
	actor   ground.Actor
	token   string
	address netip.Addr
}

func (s *Server) authenticate(c *call) (err error) {
	if err := s.service.SameLife(c.Request().Context(), c.Request().Header.Get(model.LifeHeader)); err != nil {
		return err
	}
	if c.route.right == ground.Shown {
		if c.actor, err = s.service.AdmitOutside(c.Request().Context(), c.Param("secret")); errors.Is(err, ground.ShowsNothing) {
			if many := s.gate.Stray(c.address); many != nil {
				return many
			}
		}
		return err
	}
	c.token = bearer(c.Request())
	if c.actor, err = s.service.Admit(c.Request().Context(), c.token, c.project(), c.route.right); err == nil {
		s.service.Heard(c.Request().Context(), c.actor, c.Request().Header.Get(model.WorkspaceHeader))
		return nil
	}
	var problem *model.Problem
	if errors.As(err, &problem) && problem.Type == model.NotSignedIn && c.token != "" {
		if many := s.gate.Stray(c.address); many != nil {
			return many
		}
	}
	return err
}

// whose is for whom a request counts: a person, or a link, which counts as one.
func (c *call) whose() int64 {
	if o := c.actor.Outside; o != nil {
		return -o.Project.ID<<20 - int64(o.Showing.Number)
	}
	return c.actor.ID
}

func bearer(r *http.Request) string {
	if scheme, token, ok := strings.Cut(r.Header.Get("Authorization"), " "); ok && strings.EqualFold(scheme, "bearer") {
		return strings.TrimSpace(token)
	}
	if kept, err := r.Cookie(cookie); err == nil {
		return kept.Value
	}
	return ""
}

// sameOrigin refuses what another site's page makes a browser send. Clients without a browser are let through.
func sameOrigin(next echo.HandlerFunc) echo.HandlerFunc {
	guard := http.NewCrossOriginProtection()
	return func(c *echo.Context) error {
		if err := guard.Check(c.Request()); err != nil {
			return model.NewProblem(model.NotAllowed, "use the console itself", "the request comes from a page of another site")
		}
		return next(c)
	}
}

// headers sets what every answer carries. The console loads nothing from elsewhere; what users sent is never run.
func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		pages.Headers(h)
		if strings.HasPrefix(c.Request().URL.Path, Prefix) {
			h.Set("Cache-Control", "no-store")
			if life := s.service.Life(c.Request().Context()); life != "" {
				h.Set(model.LifeHeader, life)
			}
		}
		return next(c)
	}
}

func (s *Server) logged(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		start := time.Now()
		err := next(c)
		if err != nil {
			s.fail(c, err)
		}
		response, _ := echo.UnwrapResponse(c.Response())
		if s.Observe != nil {
			s.Observe(c.Request().Method, c.Path(), response.Status, time.Since(start))
		}
		s.log.Info("request", "request", requestID(c), "method", c.Request().Method, "path", withoutSecret(c.Request().URL.Path),
			"status", response.Status, "bytes", response.Size, "ms", time.Since(start).Milliseconds())
		return nil
	}
}

// withoutSecret is a path as it is logged: who reads a log has no business with what a link shows.
func withoutSecret(path string) string {
	before, secret, ok := strings.Cut(path, "/shown/")
	if !ok {
		return path
	}
	_, rest, _ := strings.Cut(secret, "/")
	return before + "/shown/…/" + rest
}

func requestID(c *echo.Context) string { return c.Response().Header().Get("X-Request-ID") }

func (s *Server) fail(c *echo.Context, err error) {
	if response, unwrapErr := echo.UnwrapResponse(c.Response()); unwrapErr == nil && response.Committed {
		if !errors.Is(err, c.Request().Context().Err()) {
			s.log.Error("an answer broke off", "request", requestID(c), "error", err)
		}
		// The status is out already: cutting the connection is the one way left to say that the answer is not whole.
		panic(http.ErrAbortHandler)
	}
	d := details(err, requestID(c), s.log)
	var problem *model.Problem
	if errors.As(err, &problem) && problem.After > 0 {
		c.Response().Header().Set("Retry-After", strconv.Itoa(int((problem.After+time.Second-1)/time.Second)))
	}
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(d.Status)
	told, err := json.Marshal(d)
	if err == nil {
		_, err = c.Response().Write(append(text.JSON(told), '\n'))
	}
	if err != nil {
		s.log.Debug("an error could not be told", "error", err)
	}
}

// decode reads a JSON body, and refuses what it does not know. How large it may be was decided at admission.
func (c *call) decode(into any) error {
	body, err := io.ReadAll(c.Request().Body)
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return err
	case errors.Is(err, os.ErrDeadlineExceeded):
		return model.NewProblem(model.BadRequest, "send it again", "the body did not come in time")
	case err != nil:
		return model.NewProblem(model.BadRequest, "send it again", "the body was cut off")
	}
	return strictly(body, into)
}

// strictly reads one JSON value that is all there is, in text that is text: no zero byte, no broken UTF-8, which the standard library
// would pass on in silence, and a database would not take.
func strictly(body []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, extra := d.Token(); extra != io.EOF {
			err = errors.New("there is more after the end of the JSON value")
		}
	}
	if err == nil && (!utf8.Valid(body) || zero(body)) {
		err = errors.New("there is a zero byte or broken UTF-8 in it")
	}
	if err != nil {
		return model.NewProblem(model.BadRequest, "", "the body is not the JSON that is expected here: %v", err)
	}
	return nil
}

// zero reports whether a JSON text has an escaped zero character, or half of a pair, in it.
func zero(body []byte) bool {
	for i := 0; i+5 < len(body); i++ {
		if body[i] != '\\' {
			continue
		}
		if i++; body[i] == 'u' && bytes.HasPrefix(body[i+1:], []byte("0000")) {
			return true
		}
	}
	return false
}

// number reads a whole number from the query; 0 where it is left out.
func (c *call) number(name string) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 1<<31-1 {
		return 0, model.NewProblem(model.BadRequest, "", "%s is a whole number, not %q", name, text)
	}
	return n, nil
}

// answer writes v as JSON with the status of the route.
func (c *call) answer(v any) error {
	status := c.route.status
	if status == 0 {
		status = http.StatusOK
	}
	if v == nil {
		return c.NoContent(http.StatusNoContent)
	}
	if c.route.answerType != csvType {
		data, err := json.Marshal(v)
		if err != nil {
			return err
		}
		return c.Blob(status, echo.MIMEApplicationJSON, append(text.JSON(data), '\n'))
	}
	var out bytes.Buffer
	if err := sheet.Write(&out, v); err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", mime.FormatMediaType("attachment",
		map[string]string{"filename": strings.TrimPrefix(c.project()+"-"+path.Base(c.Request().URL.Path), "-")}))
	return c.Blob(status, csvType+"; charset=utf-8; header=present", out.Bytes())
}

func (c *call) project() string {
	if c.actor.Outside != nil {
		return c.actor.Within
	}
	return c.Param("project")
}
