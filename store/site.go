package store

import (
	"context"

	"freshseal/core/request"

	"github.com/jmoiron/sqlx"
)

// Site is a place with a way in.
type Site struct {
	Name      string                `db:"name"`
	Way       string                `db:"way"` // direct, jump or socks
	Address   string                `db:"address"`
	Port      int                   `db:"port"`
	SSHUser   string                `db:"ssh_user"`
	HostKey   string                `db:"host_key"`
	AddedAt   Moment                `db:"added_at"`
	Subject   JSON[request.Subject] `db:"subject"`    // what requests of its devices say
	MostLinks int                   `db:"most_links"` // at once; 0: no limit of its own
}

// AddSite keeps a site with its sealed secrets, all or nothing.
func (s *Store) AddSite(ctx context.Context, site Site, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO site (name, way, address, port, ssh_user, host_key, added_at, subject, most_links)
			VALUES (:name, :way, :address, :port, :ssh_user, :host_key, :added_at, :subject, :most_links)`, site)
		if err != nil {
			return taken(err)
		}
		return putSecrets(ctx, tx, secrets)
	})
}

// ChangeSite keeps what has become of a site, and new secrets.
func (s *Store) ChangeSite(ctx context.Context, site Site, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := changed(tx.NamedExecContext(ctx, `UPDATE site SET way = :way, address = :address, port = :port, ssh_user = :ssh_user,
			host_key = :host_key, subject = :subject, most_links = :most_links WHERE name = :name`, site)); err != nil {
			return err
		}
		return putSecrets(ctx, tx, secrets)
	})
}

// Site finds one by its name.
func (s *Store) Site(ctx context.Context, name string) (Site, error) {
	var site Site
	return site, one(s.read.GetContext(ctx, &site, `SELECT * FROM site WHERE name = ?`, name))
}

// Sites are all sites by name.
func (s *Store) Sites(ctx context.Context) ([]Site, error) {
	var out []Site
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM site ORDER BY name`)
}

// RemoveSite forgets a site and its secrets.
func (s *Store) RemoveSite(ctx context.Context, name string, purposes ...string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := removeSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		return changed(tx.ExecContext(ctx, `DELETE FROM site WHERE name = ?`, name))
	})
}
