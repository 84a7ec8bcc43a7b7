package api

import (
	"bytes"
	"encoding/json"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"

	"freshseal/contract"

	"github.com/gofiber/fiber/v3"
)

// A call that panics is answered with an id that is in the log beside the
// place; the next call is served.
func TestAPanicIsAnsweredAndLogged(t *testing.T) {
	var log bytes.Buffer
	s := &Server{log: slog.New(slog.NewTextHandler(&log, nil))}
	app := fiber.New(fiber.Config{ErrorHandler: s.problem})
	app.Use(s.identify, s.rescue)
	app.Get("/broken", func(fiber.Ctx) error { panic("a bug") })
	app.Get("/whole", func(c fiber.Ctx) error { return c.SendString("well") })

	answer, err := app.Test(httptest.NewRequest("GET", "/broken", nil))
	if err != nil {
		t.Fatal(err)
	}
	var p contract.Problem
	if err := json.NewDecoder(answer.Body).Decode(&p); err != nil || answer.StatusCode != 500 {
		t.Fatalf("%d: %v", answer.StatusCode, err)
	}
	id := answer.Header.Get(requestIDHeader)
	if id == "" || !strings.Contains(log.String(), id) || !strings.Contains(log.String(), "a bug") ||
		!strings.Contains(log.String(), "rescue_test.go") {
		t.Errorf("id %q, log:\n%s", id, &log)
	}
	if strings.Contains(p.Detail+p.Title, "a bug") {
		t.Errorf("the answer tells of the inside: %+v", p)
	}
	if answer, err := app.Test(httptest.NewRequest("GET", "/whole", nil)); err != nil || answer.StatusCode != 200 {
		t.Errorf("the next call: %v", err)
	}
}
