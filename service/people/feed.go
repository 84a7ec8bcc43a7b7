package people

import (
	"context"
	"crypto/rand"
	"errors"
	"time"

	"freshseal/contract"
	"freshseal/service/audit"
	"freshseal/service/problem"
	"freshseal/store"
	"freshseal/store/accounts"
)

const (
	feedKind  = "calendar"
	feedLife  = 730 * 24 * time.Hour
	mostFeeds = 20 // of a user
	FeedPath  = "/calendar/"
)

// AddFeed makes a calendar of a site, or of the fleet, for the user who asks. It ends with the
// user.
func (s *Service) AddFeed(ctx context.Context, site string, by Bearer) (contract.Feed, error) {
	own, err := s.Feeds(ctx, by)
	if err != nil {
		return contract.Feed{}, err
	}
	if len(own) >= mostFeeds {
		return contract.Feed{}, problem.Reject("the calendar was not made", "you have 20 calendars",
			"remove one of them")
	}
	u, err := s.store.Users.Get(ctx, by.User)
	if err != nil {
		return contract.Feed{}, err
	}
	secret := rand.Text()
	// Its role reaches nothing: the secret opens the calendar alone.
	session := accounts.Session{SHA256: digest(secret), User: u.Name, Kind: feedKind, Role: feedKind, Label: site,
		BeganAt: s.moment(), EndsAt: store.At(s.now().Add(feedLife))}
	if err := s.store.Sessions.Add(ctx, session, u); err != nil {
		return contract.Feed{}, err
	}
	audit.Say(ctx, "a calendar of %q", site)
	out := showFeed(session)
	out.Path = FeedPath + secret + ".ics"
	return out, nil
}

func showFeed(row accounts.Session) contract.Feed {
	return contract.Feed{ID: row.SHA256[:tokenID], User: row.User, Site: row.Label, EndsAt: row.EndsAt.Time}
}

// Feeds returns the calendars of the user who asks.
func (s *Service) Feeds(ctx context.Context, by Bearer) ([]contract.Feed, error) {
	rows, err := s.store.Sessions.Of(ctx, by.User, feedKind, s.moment())
	out := make([]contract.Feed, 0, len(rows))
	for _, row := range rows {
		out = append(out, showFeed(row))
	}
	return out, err
}

// RemoveFeed ends a calendar of the user who asks.
func (s *Service) RemoveFeed(ctx context.Context, id string, by Bearer) error {
	own, err := s.Feeds(ctx, by)
	if err != nil {
		return err
	}
	for _, feed := range own {
		if feed.ID == id {
			return s.store.Sessions.End(ctx, id)
		}
	}
	return problem.New(problem.NotFound, "you have no calendar that is called "+id, "", "list your calendars")
}

// SiteOfFeed returns the site whose calendar a secret opens; empty: the whole fleet.
func (s *Service) SiteOfFeed(ctx context.Context, secret string) (site string, err error) {
	session, err := s.store.Sessions.Get(ctx, digest(secret), s.moment())
	if errors.Is(err, store.ErrNotFound) || err == nil && session.Kind != feedKind {
		return "", problem.New(problem.NotFound, "there is no such calendar", "it was removed, or its user "+
			"was changed", "make a new one")
	}
	return session.Label, err
}
