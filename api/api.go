// Package api serves the use cases over HTTPS: JSON under /api/v1, progress as
// server-sent events, and the console's pages. Handlers decode, call one use
// case and encode; see routes.go for the list of them all.
package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"reflect"
	"runtime/debug"
	"strings"
	"sync"
	"time"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/problem"

	"github.com/gofiber/fiber/v3"
)

// Server is the API of one service.
type Server struct {
	service *service.Service
	log     *slog.Logger
	app     *fiber.App

	changes sync.Mutex      // changes that are guarded by If-Match, one after the other
	intakes chan struct{}   // bounds how many piles are taken in at once
	stop    context.Context // ends the open event streams
	end     context.CancelFunc
	calls   context.Context // ends the calls under way, some time after that
	cut     context.CancelFunc

	listening sync.Mutex // guards listener
	listener  net.Listener
}

// New makes the server of a service.
func New(s *service.Service, log *slog.Logger) (*Server, error) {
	server := &Server{service: s, log: log, intakes: make(chan struct{}, intakesAtOnce)}
	server.stop, server.end = context.WithCancel(context.Background())
	server.calls, server.cut = context.WithCancel(context.Background())
	server.app = fiber.New(fiber.Config{
		CaseSensitive: true, BodyLimit: maxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		ReadBufferSize: 16 << 10,
		ReadTimeout:    readLimit, WriteTimeout: writeLimit, IdleTimeout: idleLimit, Concurrency: maxConnections,
		ErrorHandler: server.problem,
	})
	server.app.Server().HeaderReceived = patience
	server.app.Use(harden, server.identify, server.rescue, server.bound)
	shown := map[string]func(*Server, fiber.Ctx) (any, error){}
	for _, r := range routes {
		if r.shown != nil {
			shown[r.path] = r.shown
		}
	}
	for _, r := range routes {
		handlers := []any{r.handler(server)}
		if show := shown[r.path]; show != nil && r.method != fiber.MethodGet && !r.guarded() {
			handlers = []any{server.unchanged(show), r.handler(server)}
		}
		if !r.open {
			handlers = append([]any{server.admit(r)}, handlers...)
		}
		server.app.Add([]string{r.method}, fiberPath(r.path), handlers[0], handlers[1:]...)
	}
	server.app.Get("/api/*", func(c fiber.Ctx) error {
		return &problem.Error{Kind: problem.NotFound, What: "there is no such address in the API",
			Next: "see /api/v1/openapi.json"}
	})
	servePages(server.app)
	return server, nil
}

// suites are those of TLS 1.2 with forward secrecy and authenticated encryption; those of
// TLS 1.3 all are.
var suites = []uint16{
	tls.TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256, tls.TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256,
	tls.TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384,
	tls.TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384, tls.TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256,
	tls.TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256,
}

// Serve answers on the listener, with TLS, until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	config := &tls.Config{GetCertificate: s.service.Own.Certificate, MinVersion: tls.VersionTLS12,
		CipherSuites: suites}
	l = &bounded{Listener: l, known: s.service.People.Knows}
	s.listening.Lock()
	s.listener = l
	s.listening.Unlock()
	if s.stop.Err() != nil {
		l.Close()
		return nil
	}
	return s.app.Listener(tls.NewListener(l, config), fiber.ListenConfig{DisableStartupMessage: true})
}

// callGrace is how long the calls under way have after a stop.
const callGrace = 5 * time.Second

// Shutdown ends the event streams and waits for the other answers under way, for at
// most callGrace. It may be called before, during or after Serve, which then returns.
func (s *Server) Shutdown(ctx context.Context) error {
	s.end()
	defer time.AfterFunc(callGrace, s.cut).Stop()
	err := s.app.ShutdownWithContext(ctx)
	// The library's shutdown does nothing if it does not have the listener yet.
	s.listening.Lock()
	defer s.listening.Unlock()
	if s.listener != nil {
		s.listener.Close() // most often closed already
	}
	return err
}

func fiberPath(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

// secretPaths are answers to GET that nothing may keep.
var secretPaths = map[string]bool{v1 + "/backup": true, v1 + "/export": true, v1 + "/session": true,
	v1 + "/tokens": true, v1 + "/sessions": true}

// harden sets what every answer carries. The console needs inline styles and
// nothing from anywhere else.
func harden(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; "+
		"img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; "+
		"form-action 'self'; frame-ancestors 'none'")
	c.Set("Strict-Transport-Security", "max-age=31536000")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set(fiber.HeaderCacheControl, "no-cache, private") // kept, and asked for each time
		if c.Method() != fiber.MethodGet || secretPaths[c.Path()] {
			c.Set(fiber.HeaderCacheControl, "no-store") // what carries secrets or the database
		}
	}
	return c.Next()
}

// identify gives every request an id, under which the log has it, and logs what
// was asked of the API beyond looking.
func (s *Server) identify(c fiber.Ctx) error {
	id := make([]byte, 6)
	rand.Read(id)
	c.Set(requestIDHeader, hex.EncodeToString(id))
	if c.Method() == fiber.MethodGet || !strings.HasPrefix(c.Path(), v1) {
		return c.Next()
	}
	began := time.Now()
	err := c.Next()
	attributes := []any{"request", requestID(c), "method", c.Method(), "path", shownPath(c.Path()), "user",
		bearer(c).User, "took", time.Since(began).Round(time.Millisecond)}
	if err != nil {
		attributes = append(attributes, "error", err)
	}
	s.log.Info("asked", attributes...)
	return err
}

// rescue makes an error of a panic: one call fails, and the log says where.
func (s *Server) rescue(c fiber.Ctx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = s.panicked(requestID(c), r)
		}
	}()
	return c.Next()
}

func (s *Server) panicked(request string, r any) error {
	s.log.Error("a call panicked", "request", request, "panic", r, "stack", string(debug.Stack()))
	return fmt.Errorf("a call panicked: %v", r)
}

// bound gives a call a context that ends with the client and with the service.
func (s *Server) bound(c fiber.Ctx) error {
	ctx, end := context.WithCancel(s.calls)
	defer end()
	c.SetContext(ctx)
	conn := c.RequestCtx().Conn()
	go func() { // ends with the call
		look := time.NewTicker(lookEvery)
		defer look.Stop()
		for {
			select {
			case <-look.C:
				if gone(conn) {
					end()
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	err := c.Next()
	if err != nil && c.Request().IsBodyStream() {
		c.RequestCtx().SetConnectionClose() // what is left of the body is not the next call
	}
	return err
}

// lookEvery is how often it is looked whether a client still waits.
const lookEvery = 500 * time.Millisecond

const requestIDHeader = "Request-Id"

func requestID(c fiber.Ctx) string { return c.GetRespHeader(requestIDHeader) }

var statusOf = map[problem.Kind]int{
	problem.Invalid: fiber.StatusUnprocessableEntity, problem.NotFound: fiber.StatusNotFound,
	problem.Conflict: fiber.StatusConflict,
	problem.Stale:    fiber.StatusPreconditionFailed, problem.Blind: fiber.StatusPreconditionRequired,
	problem.TooLong: fiber.StatusRequestEntityTooLarge, problem.Denied: fiber.StatusUnauthorized,
	problem.Refused: fiber.StatusForbidden, problem.TooMany: fiber.StatusTooManyRequests,
	problem.Outside: fiber.StatusBadGateway, problem.Unready: fiber.StatusServiceUnavailable,
	problem.NeedsCode: fiber.StatusUnauthorized, problem.Unconfirmed: fiber.StatusForbidden,
}

// problem writes an error. What is not meant for people is logged and kept from them.
func (s *Server) problem(c fiber.Ctx, err error) error {
	p := contract.Problem{Type: "about:blank", Status: fiber.StatusInternalServerError,
		Title: "something went wrong in the service", Next: "look into its log"}
	var known *problem.Error
	var http *fiber.Error
	switch {
	case errors.As(err, &known):
		p = contract.Problem{Type: "urn:freshseal:" + string(known.Kind), Title: known.What,
			Status: statusOf[known.Kind], Detail: known.Why, Next: known.Next, Actions: known.Actions, Instance: ""}
	case problem.NoRoom(err):
		s.log.Error("the database takes no changes", "request", requestID(c), "error", err)
		p = contract.Problem{Type: "urn:freshseal:no-room", Title: "nothing was changed",
			Status: fiber.StatusInsufficientStorage, Detail: "the disk of the service is full, read-only or failing",
			Next: "make room on the disk of its data folder, then try again", Actions: nil, Instance: ""}
	case problem.Busy(err):
		s.log.Warn("the database is held by another program", "request", requestID(c), "error", err)
		c.Set(fiber.HeaderRetryAfter, "5")
		p = contract.Problem{Type: "urn:freshseal:busy", Title: "nothing was changed",
			Status: fiber.StatusServiceUnavailable, Detail: "another program holds the database of the service",
			Next: "try again in some seconds; if it stays so, end the program that has the file open", Actions: nil,
			Instance: ""}
	case errors.As(err, &http):
		p.Status, p.Title, p.Next = http.Code, http.Message, "see /api/v1/openapi.json"
	default:
		s.log.Error("answer failed", "request", requestID(c), "method", c.Method(), "path", shownPath(c.Path()),
			"error", err)
	}
	p.Instance = "urn:freshseal:request:" + requestID(c)
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, "application/problem+json")
	return c.Status(p.Status).Send(body)
}

// call makes a handler of a function: it decodes the path, the query and a JSON
// body into In, and encodes Out with the status of the route.
func call[In, Out any](status, most int, f use[In, Out]) func(*Server) fiber.Handler {
	return func(s *Server) fiber.Handler {
		return func(c fiber.Ctx) error {
			var in In
			if err := decode(c, &in, most); err != nil {
				return err
			}
			out, err := f(c.Context(), s.service, bearer(c), in)
			if err != nil {
				return err
			}
			if status == fiber.StatusNoContent {
				return c.SendStatus(status)
			}
			return answer(c, status, out)
		}
	}
}

// decode fills the fields of in: those tagged path and query by name, the rest
// from the JSON body, in which unknown fields are an error.
func decode(c fiber.Ctx, in any, most int) error {
	v := reflect.ValueOf(in).Elem()
	if v.Kind() != reflect.Struct {
		return nil
	}
	if wantsBody := fill(c, v); !wantsBody {
		return nil
	}
	body, err := bodyOf(c, most)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(body))
	d.DisallowUnknownFields()
	err = d.Decode(in)
	if err == nil && d.More() {
		err = errors.New("there is something behind it")
	}
	switch {
	case errors.Is(err, io.EOF):
		return &problem.Error{Kind: problem.Invalid, What: "the body is empty", Next: "send JSON as " +
			"/api/v1/openapi.json describes it"}
	case err != nil:
		return &problem.Error{Kind: problem.Invalid, What: "the body is not the JSON that is wanted",
			Why: strings.TrimPrefix(err.Error(), "json: "), Next: "send it as /api/v1/openapi.json describes it"}
	}
	return nil
}

// fill fills the fields that come from the path and the query, and says
// whether others are left for the body.
func fill(c fiber.Ctx, v reflect.Value) (wantsBody bool) {
	for i := range v.NumField() {
		field := v.Type().Field(i)
		switch {
		case field.Anonymous:
			wantsBody = fill(c, v.Field(i)) || wantsBody
		case field.Tag.Get("path") != "":
			name, err := url.PathUnescape(c.Params(field.Tag.Get("path")))
			if err != nil {
				name = c.Params(field.Tag.Get("path"))
			}
			v.Field(i).SetString(strings.Clone(name))
		case field.Tag.Get("header") != "":
			v.Field(i).SetString(strings.Clone(c.Get(field.Tag.Get("header"))))
		case field.Tag.Get("query") != "":
			v.Field(i).SetString(strings.Clone(c.Query(field.Tag.Get("query"))))
		case field.Tag.Get("json") != "-":
			wantsBody = true
		}
	}
	return wantsBody
}
