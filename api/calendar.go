package api

import (
	"context"
	"strings"

	"freshseal/contract"
	"freshseal/service"
	"freshseal/service/people"

	"github.com/gofiber/fiber/v3"
)

type (
	askFeed struct {
		Site string `json:"site,omitempty" description:"left out: the whole fleet"`
	}
	bySecret struct {
		Secret string `path:"secret" json:"-"`
	}
)

// calendarRoutes are about calendars: each user makes them, and whoever knows the secret address
// of one reads it.
var calendarRoutes = []route{
	{method: "GET", path: people.FeedPath + "{secret}", summary: "act-by dates and expiries as a calendar (RFC " +
		"5545); the secret is part of the address", status: 200, in: bySecret{}, media: "text/calendar",
		handler: feed, open: true},
	looks("/calendars", "list your calendars", func(ctx context.Context, s *service.Service, who people.Bearer,
		_ nothing) (page[contract.Feed], error) {
		items, err := s.People.Feeds(ctx, who)
		return page[contract.Feed]{Items: items}, err
	}),
	posts("/calendars", "make a calendar with a secret address, which is shown once",
		func(ctx context.Context, s *service.Service, who people.Bearer, in askFeed) (contract.Feed, error) {
			if in.Site != "" {
				if err := s.Fleet.Lists.KnowsSite(ctx, in.Site); err != nil {
					return contract.Feed{}, err
				}
			}
			return s.People.AddFeed(ctx, in.Site, who)
		}).by(contract.Viewer),
	ends("DELETE", "/calendars/{id}", "remove a calendar of yours", func(ctx context.Context, s *service.Service,
		who people.Bearer, in byID) error {
		return s.People.RemoveFeed(ctx, in.ID, who)
	}).by(contract.Viewer),
}

func feed(s *Server) fiber.Handler {
	return func(c fiber.Ctx) error {
		site, err := s.service.People.SiteOfFeed(c.Context(), strings.TrimSuffix(c.Params("secret"), ".ics"))
		if err != nil {
			return err
		}
		text, err := s.service.Fleet.Lists.Calendar(c.Context(), site)
		if err != nil {
			return err
		}
		c.Set(fiber.HeaderContentType, "text/calendar; charset=utf-8")
		c.Set(fiber.HeaderCacheControl, "no-store")
		return c.SendString(text)
	}
}

// shownPath returns the path of a call for logs: the secret of a calendar is no part of it.
func shownPath(path string) string {
	if strings.HasPrefix(path, people.FeedPath) {
		return people.FeedPath + "…"
	}
	return path
}
