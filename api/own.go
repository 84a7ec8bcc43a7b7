package api

import (
	"context"

	"freshseal/core/cert"
	"freshseal/service"

	"github.com/gofiber/fiber/v3"
)

// ownRoutes are about the service itself.
var ownRoutes = []route{
	{method: "GET", path: "/healthz", summary: "say that the service is there", status: 200, out: Health{}, handler: health, open: true},
	{method: "GET", path: "/readyz", summary: "say whether the service can do its work", status: 200, out: Health{}, handler: ready, open: true},
	{method: "GET", path: v1 + "/openapi.json", summary: "this description", status: 200, out: map[string]any{}, handler: describe, open: true},
	listing("/succession", "which certificate of the service followed which, signed with the key of the one before", (*service.Service).Succession).openly(),
	{method: "GET", path: v1 + "/backup", role: service.Admin, summary: "a copy of the database, as of one moment", status: 200, media: "application/vnd.sqlite3", handler: backup},
	looks("/status", "how the fleet stands", status),
	looks("/settings", "how the service is set up", func(_ context.Context, s *service.Service, _ service.Bearer, _ nothing) (service.Settings, error) {
		return s.Settings(Version), nil
	}),
}

// Health is the answer to those who only ask whether the service is there.
type Health struct {
	Status string `json:"status" required:"true"`
}

func health(*Server) fiber.Handler {
	return func(c fiber.Ctx) error { return c.JSON(Health{"ok"}) }
}

func ready(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		if err := s.service.Ready(c.Context()); err != nil {
			return err
		}
		return c.JSON(Health{"ready"})
	}
}

// Status says how the fleet stands, and to whom.
type Status struct {
	Version string `json:"version" required:"true"`
	User    string `json:"user" required:"true"`
	service.Overview
}

func status(ctx context.Context, s *service.Service, who service.Bearer, _ nothing) (Status, error) {
	overview, err := s.Overview(ctx)
	return Status{Version, who.User, overview}, err
}

// Succession is what clients read who pinned an older certificate.
type Succession struct {
	Items []cert.Endorsement `json:"items"`
}
