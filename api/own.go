package api

import (
	"context"

	"freshseal/contract"
	"freshseal/core/licences"
	"freshseal/service"
	"freshseal/service/own"
	"freshseal/service/people"

	"github.com/gofiber/fiber/v3"
)

// ownRoutes are about the service itself.
var ownRoutes = []route{
	{method: "GET", path: "/healthz", summary: "report that the service is alive", status: 200, out: Health{},
		handler: health, open: true},
	{method: "GET", path: "/readyz", summary: "report whether the service is ready", status: 200, out: Health{},
		handler: ready, open: true},
	{method: "GET", path: v1 + "/openapi.json", summary: "this description", status: 200, out: map[string]any{},
		handler: describe, open: true},
	listing("/succession", "list the successive certificates of the service, each signed by the key of its "+
		"predecessor", theOwn, (*own.Service).Succession).openly(),
	{method: "GET", path: v1 + "/backup", role: contract.Admin, summary: "download a copy of the database",
		status: 200, media: "application/vnd.sqlite3", handler: backup, final: true},
	{method: "GET", path: v1 + "/licences", role: contract.Viewer, summary: "the licences of what the program " +
		"is built of", status: 200, media: "text/plain", handler: showLicences},
	looks("/status", "show a summary of the fleet", status),
	looks("/settings", "show the configuration of the service",
		func(_ context.Context, s *service.Service, _ people.Bearer, _ nothing) (contract.Settings, error) {
			return s.Settings(contract.Version), nil
		}),
}

// Health is the answer to those who only ask whether the service is there.
type Health struct {
	Status string `json:"status" required:"true"`
}

func health(*Server) fiber.Handler {
	return func(c fiber.Ctx) error { return c.JSON(Health{"ok"}) }
}

func showLicences(*Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		c.Set(fiber.HeaderContentType, "text/plain; charset=utf-8")
		return c.SendString(licences.Text())
	}
}

func ready(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if err := s.service.Ready(c.Context()); err != nil {
			return err
		}
		return c.JSON(Health{"ready"})
	}
}

func status(ctx context.Context, s *service.Service, who people.Bearer, _ nothing) (contract.Status, error) {
	overview, err := s.Report.Overview(ctx)
	return contract.Status{Version: contract.Version, User: who.User, Overview: overview}, err
}
