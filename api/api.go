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
	"strings"
	"sync"
	"time"

	"freshseal/core/pile"
	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// Server is the API of one service.
type Server struct {
	service *service.Service
	log     *slog.Logger
	app     *fiber.App

	changes     sync.Mutex      // changes that are guarded by If-Match, one after the other
	description []byte          // OpenAPI
	stop        context.Context // ends the open event streams
	end         context.CancelFunc
}

// maxBody leaves room for a whole pile and its multipart wrapping.
const maxBody = pile.MaxBytes + 1<<20

// New makes the server of a service.
func New(s *service.Service, log *slog.Logger) (*Server, error) {
	description, err := Description()
	if err != nil {
		return nil, fmt.Errorf("describing the API: %w", err)
	}
	server := &Server{service: s, log: log, description: description}
	server.stop, server.end = context.WithCancel(context.Background())
	server.app = fiber.New(fiber.Config{
		BodyLimit: maxBody, ReadTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute, ErrorHandler: server.problem,
	})
	server.app.Use(harden, server.identify)
	shown := map[string]func(*Server, fiber.Ctx) (any, error){}
	for _, r := range routes {
		if r.shown != nil {
			shown[r.path] = r.shown
		}
	}
	for _, r := range routes {
		handlers := []any{r.handler(server)}
		if show := shown[r.path]; show != nil && r.method != fiber.MethodGet {
			handlers = []any{server.unchanged(show), r.handler(server)}
		}
		if !r.open {
			handlers = append([]any{server.admit(r)}, handlers...)
		}
		server.app.Add([]string{r.method}, fiberPath(r.path), handlers[0], handlers[1:]...)
	}
	server.app.Get("/api/*", func(c fiber.Ctx) error {
		return &service.Error{Kind: service.NotFound, What: "there is no such address in the API", Next: "see /api/v1/openapi.json"}
	})
	servePages(server.app)
	return server, nil
}

// Serve answers on the listener, with TLS, until Shutdown.
func (s *Server) Serve(l net.Listener) error {
	config := &tls.Config{GetCertificate: s.service.OwnCertificate, MinVersion: tls.VersionTLS12}
	return s.app.Listener(tls.NewListener(l, config), fiber.ListenConfig{DisableStartupMessage: true})
}

// Shutdown ends the event streams and waits for the other answers under way.
func (s *Server) Shutdown(ctx context.Context) error {
	s.end()
	return s.app.ShutdownWithContext(ctx)
}

func fiberPath(path string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(path)
}

// harden sets what every answer carries. The console needs inline styles and
// nothing from anywhere else.
func harden(c fiber.Ctx) error {
	c.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
	c.Set("Strict-Transport-Security", "max-age=31536000")
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "no-referrer")
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
	attributes := []any{"request", requestID(c), "method", c.Method(), "path", c.Path(), "user", bearer(c).User, "took", time.Since(began).Round(time.Millisecond)}
	if err != nil {
		attributes = append(attributes, "error", err)
	}
	s.log.Info("asked", attributes...)
	return err
}

const requestIDHeader = "Request-Id"

func requestID(c fiber.Ctx) string { return c.GetRespHeader(requestIDHeader) }

// Problem is the body of every error answer (RFC 9457).
type Problem struct {
	Type   string `json:"type" required:"true"`
	Title  string `json:"title" required:"true" description:"what went wrong"`
	Status int    `json:"status" required:"true"`
	Detail string `json:"detail,omitempty" description:"why"`
	Next   string `json:"next,omitempty" description:"what to do next"`

	Instance string `json:"instance,omitempty" description:"the request's id, as the log has it"`
}

var statusOf = map[service.Kind]int{
	service.Invalid: fiber.StatusUnprocessableEntity, service.NotFound: fiber.StatusNotFound, service.Conflict: fiber.StatusConflict,
	service.Stale: fiber.StatusPreconditionFailed, service.Denied: fiber.StatusUnauthorized, service.Refused: fiber.StatusForbidden, service.TooMany: fiber.StatusTooManyRequests, service.Outside: fiber.StatusBadGateway,
}

// problem writes an error. What is not meant for people is logged and kept from them.
func (s *Server) problem(c fiber.Ctx, err error) error {
	p := Problem{Type: "about:blank", Status: fiber.StatusInternalServerError, Title: "something went wrong in the service", Next: "look into its log"}
	var known *service.Error
	var http *fiber.Error
	switch {
	case errors.As(err, &known):
		p = Problem{"urn:freshseal:" + string(known.Kind), known.What, statusOf[known.Kind], known.Why, known.Next, ""}
	case service.NoRoom(err):
		s.log.Error("the database takes no changes", "request", requestID(c), "error", err)
		p = Problem{"urn:freshseal:no-room", "nothing was changed", fiber.StatusInsufficientStorage, "the disk of the service is full, read-only or failing", "make room on the disk of its data folder, then try again", ""}
	case errors.As(err, &http):
		p.Status, p.Title, p.Next = http.Code, http.Message, "see /api/v1/openapi.json"
	default:
		s.log.Error("answer failed", "request", requestID(c), "method", c.Method(), "path", c.Path(), "error", err)
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
func call[In, Out any](status int, f use[In, Out]) func(*Server) fiber.Handler {
	return func(s *Server) fiber.Handler {
		return func(c fiber.Ctx) error {
			var in In
			if err := decode(c, &in); err != nil {
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
func decode(c fiber.Ctx, in any) error {
	v := reflect.ValueOf(in).Elem()
	if v.Kind() != reflect.Struct {
		return nil
	}
	if wantsBody := fill(c, v); !wantsBody {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(c.Body()))
	d.DisallowUnknownFields()
	err := d.Decode(in)
	if err == nil && d.More() {
		err = errors.New("there is something behind it")
	}
	switch {
	case errors.Is(err, io.EOF):
		return &service.Error{Kind: service.Invalid, What: "the body is empty", Next: "send JSON as /api/v1/openapi.json describes it"}
	case err != nil:
		return &service.Error{Kind: service.Invalid, What: "the body is not the JSON that is wanted", Why: strings.TrimPrefix(err.Error(), "json: "), Next: "send it as /api/v1/openapi.json describes it"}
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
		case field.Tag.Get("query") != "":
			v.Field(i).SetString(strings.Clone(c.Query(field.Tag.Get("query"))))
		case field.Tag.Get("json") != "-":
			wantsBody = true
		}
	}
	return wantsBody
}

// pileOf reads the files of a multipart body.
func pileOf(c fiber.Ctx) ([]pile.File, error) {
	form, err := c.MultipartForm()
	if err != nil || len(form.File["file"]) == 0 {
		return nil, &service.Error{Kind: service.Invalid, What: "there is no file in the body", Next: "send multipart/form-data with one or more fields called file"}
	}
	var out []pile.File
	for _, header := range form.File["file"] {
		f, err := header.Open()
		if err != nil {
			return nil, fmt.Errorf("reading an upload: %w", err)
		}
		content, err := io.ReadAll(io.LimitReader(f, maxBody))
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("reading an upload: %w", err)
		}
		out = append(out, pile.File{Name: header.Filename, Content: content})
	}
	return out, nil
}
