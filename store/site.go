package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Site is a place with a way in.
type Site struct {
	Name    string `db:"name"`
	Way     string `db:"way"` // direct, jump or socks
	Address string `db:"address"`
	Port    int    `db:"port"`
	SSHUser string `db:"ssh_user"`
	HostKey string `db:"host_key"`
	AddedAt Moment `db:"added_at"`
}

// AddSite keeps a site with its sealed secrets, all or nothing.
func (s *Store) AddSite(ctx context.Context, site Site, secrets map[string][]byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO site (name, way, address, port, ssh_user, host_key, added_at)
			VALUES (:name, :way, :address, :port, :ssh_user, :host_key, :added_at)`, site)
		if err != nil {
			return taken(err)
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
