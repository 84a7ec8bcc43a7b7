package accounts

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Credentials are users with secrets that devices share.
type Credentials struct{ DB *sqlite.DB }

// Credential is a way to sign in that several devices share; its secrets are
// sealed apart.
type Credential struct {
	Name     string          `db:"name"`
	User     string          `db:"user"`
	AddedAt  sqlite.Moment   `db:"added_at"`
	Source   string          `db:"source"`  // where its secrets are asked for each time; empty: they are sealed here
	Devices  int             `db:"devices"` // that use it
	Revision sqlite.Revision `db:"revision"`
}

const credentialRows = `SELECT credential.*, (SELECT count(*) FROM access
	WHERE access.credential = credential.name) AS devices,
	coalesce((SELECT number FROM revision WHERE of = 'credential/' || credential.name), 0) AS revision FROM credential `

// Add stores a credential with its sealed secrets, all or nothing.
func (s Credentials) Add(ctx context.Context, c Credential, secrets map[string][]byte) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.NamedExecContext(ctx, `INSERT INTO credential (name, user, added_at, source)
			VALUES (:name, :user, :added_at, :source)`, c)
		if err != nil {
			return sqlite.Taken(err)
		}
		return sqlite.PutSecrets(ctx, tx, secrets)
	})
}

// Change stores another user, and other secrets or where they are asked for; purposes are the secrets that it had, of
// which those not among the new ones are forgotten.
func (s Credentials) Change(ctx context.Context, c Credential, secrets map[string][]byte, known sqlite.Revision,
	purposes ...string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "credential/"+c.Name, known); err != nil {
			return err
		}
		if err := sqlite.Changed(tx.NamedExecContext(ctx, `UPDATE credential SET user = :user, source = :source
			WHERE name = :name`, c)); err != nil {
			return err
		}
		if err := sqlite.RemoveSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		return sqlite.PutSecrets(ctx, tx, secrets)
	})
}

// Get returns the one with this name, or ErrNotFound.
func (s Credentials) Get(ctx context.Context, name string) (Credential, error) {
	var c Credential
	return c, sqlite.Row(s.DB.Read.GetContext(ctx, &c, credentialRows+`WHERE name = ?`, name))
}

// List returns all credentials by name.
func (s Credentials) List(ctx context.Context) ([]Credential, error) {
	var out []Credential
	return out, s.DB.Read.SelectContext(ctx, &out, credentialRows+`ORDER BY name`)
}

// Remove deletes one that no device uses, with its secrets; ErrTaken
// says that one does.
func (s Credentials) Remove(ctx context.Context, name string, purposes ...string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var used bool
		if err := tx.GetContext(ctx, &used, `SELECT EXISTS (SELECT 1 FROM access WHERE credential = ?)`,
			name); err != nil {
			return err
		}
		if used {
			return sqlite.ErrTaken
		}
		if err := sqlite.RemoveSecrets(ctx, tx, purposes); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM credential WHERE name = ?`, name))
	})
}
