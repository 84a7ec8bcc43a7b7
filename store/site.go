package store

import (
	"context"
	"errors"
	"slices"
	"strings"

	"freshseal/core/judgement/roster"
	"freshseal/core/pki/request"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Site is a place with a way in.
type Site struct {
	Name      string                `db:"name"`
	Way       string                `db:"way"` // direct, jump or socks
	Address   string                `db:"address"`
	Port      int                   `db:"port"`
	User      string                `db:"user"`
	Pin       string                `db:"pin"`
	AddedAt   Moment                `db:"added_at"`
	Subject   JSON[request.Subject] `db:"subject"`    // what requests of its devices say
	MostLinks int                   `db:"most_links"` // at once; 0: no limit of its own
	Behind    string                `db:"behind"`     // the site through which its jump host or proxy is reached
	Paused    bool                  `db:"paused"`     // its slots are not read by themselves
	Presence  JSON[[]string]        `db:"presence"`   // windows in which it can be reached; none: always
	Holidays  string                `db:"holidays"`   // an iCalendar file; empty: none
	Revision  Revision              `db:"revision"`

	Implied bool `db:"-"` // devices name it, and nothing else is kept of it
}

const siteRows = `SELECT site.*, coalesce((SELECT number FROM revision
	WHERE of = 'site/' || site.name), 0) AS revision FROM site `

// Add stores a site with its sealed secrets, all or nothing.
func (s Sites) Add(ctx context.Context, site Site, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return addSite(ctx, tx, site, secrets) })
}

func addSite(ctx context.Context, tx *sqlx.Tx, site Site, secrets map[string][]byte) error {
	if _, err := tx.NamedExecContext(ctx, `INSERT INTO site (name, way, address, port, user, pin, added_at, subject,
		most_links, behind, paused, presence, holidays)
		VALUES (:name, :way, :address, :port, :user, :pin, :added_at, :subject, :most_links, :behind, :paused,
		:presence, :holidays)`, site); err != nil {
		return sqlite.Taken(err)
	}
	return sqlite.PutSecrets(ctx, tx, secrets)
}

// Change stores what has become of a site of a known revision, and new secrets. One that was only named by devices is
// kept from then on; it is ErrTaken where somebody else was faster.
func (s Sites) Change(ctx context.Context, site Site, secrets map[string][]byte, known Revision) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "site/"+site.Name, known); err != nil {
			return err
		}
		if site.Implied {
			return addSite(ctx, tx, site, secrets)
		}
		if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE site SET way = :way, address = :address, port = :port,
			user = :user,
			pin = :pin, subject = :subject, most_links = :most_links, behind = :behind, paused = :paused,
			presence = :presence, holidays = :holidays WHERE name = :name`, site)); err != nil {
			return err
		}
		return sqlite.PutSecrets(ctx, tx, secrets)
	})
}

// Get returns the one with this name, or ErrNotFound.
func (s Sites) Get(ctx context.Context, name string) (Site, error) {
	var site Site
	return site, sqlite.Row(s.Read.GetContext(ctx, &site, siteRows+`WHERE name = ?`, name))
}

// NamedSite is Site, or an implied one where only devices name it.
func (s Sites) NamedSite(ctx context.Context, name string) (Site, error) {
	site, err := s.Get(ctx, name)
	if errors.Is(err, ErrNotFound) && name != "" && s.roster.CountDevices(roster.DeviceFilter{Site: name}) > 0 {
		return Site{Name: name, Way: "direct", Implied: true}, nil
	}
	return site, err
}

// NamedSites are Sites and the implied ones, by name.
func (s Sites) NamedSites(ctx context.Context) ([]Site, error) {
	out, err := s.List(ctx)
	kept := map[string]bool{}
	for _, site := range out {
		kept[site.Name] = true
	}
	for _, name := range s.roster.Sites() {
		if !kept[name] {
			out = append(out, Site{Name: name, Way: "direct", Implied: true})
		}
	}
	slices.SortFunc(out, func(x, y Site) int { return strings.Compare(x.Name, y.Name) })
	return out, err
}

// List returns all sites by name, those aside that only devices name.
func (s Sites) List(ctx context.Context) ([]Site, error) {
	var out []Site
	return out, s.Read.SelectContext(ctx, &out, siteRows+`ORDER BY name`)
}

// Remove deletes a site and its secrets.
func (s Sites) Remove(ctx context.Context, name string, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.RemoveSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM site WHERE name = ?`, name))
	})
}
