// Package found keeps what discoveries found on networks.
package found

import (
	"context"

	"freshseal/core/judgement/finding"
	"freshseal/core/pki/cert"
	"freshseal/store/chains"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Discoveries are what was found on networks.
type Discoveries struct{ DB *sqlite.DB }

// Discovery is one search of networks, under way or ended.
type Discovery struct {
	ID      int64              `db:"id"`
	Asked   sqlite.JSON[Asked] `db:"asked"`
	By      string             `db:"by"`
	Total   int                `db:"total"`
	Done    int                `db:"done"`
	BeganAt sqlite.Moment      `db:"began_at"`
	EndedAt sqlite.Moment      `db:"ended_at"`
	Why     string             `db:"why"`
	Found   int                `db:"found"`   // TLS services
	Strange int                `db:"strange"` // that answered, and not with TLS
}

// Asked is what an administrator asked for.
type Asked struct {
	Ranges []string `json:"ranges"`
	Except []string `json:"except,omitempty"`
	Ports  []string `json:"ports,omitempty"`
	Rate   int      `json:"rate,omitempty"`
	Site   string   `json:"site,omitempty"`
}

// Find is what answered at one address and port.
type Find struct {
	ID         int64                         `db:"id"`
	Taking     int64                         `db:"discovery_id"`
	Nth        int                           `db:"nth"`
	Address    string                        `db:"address"`
	Port       int                           `db:"port"`
	Protocol   string                        `db:"protocol"`
	ServerName string                        `db:"server_name"`
	Chain      sqlite.JSON[[]string]         `db:"chain"`
	Version    string                        `db:"version"`
	Banner     string                        `db:"banner"`
	Failure    sqlite.JSON[*finding.Failure] `db:"failure"`

	Served []*cert.Certificate `db:"-"`
}

const takingRows = `SELECT discovery.*, (SELECT count(*) FROM find WHERE discovery_id = discovery.id
	AND failure = 'null') AS found,
	(SELECT count(*) FROM find WHERE discovery_id = discovery.id AND failure <> 'null') AS strange FROM discovery `

// Add stores what was asked for, unless another one is under way: that is ErrTaken. Only the
// newest are kept.
func (s Discoveries) Add(ctx context.Context, t Discovery, keep int) (Discovery, error) {
	return t, s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var open int
		if err := tx.GetContext(ctx, &open, `SELECT count(*) FROM discovery WHERE ended_at = 0`); err != nil {
			return err
		}
		if open > 0 {
			return sqlite.ErrTaken
		}
		result, err := tx.NamedExecContext(ctx, `INSERT INTO discovery (asked, by, total, done, began_at, ended_at,
			why) VALUES (:asked, :by, :total, 0, :began_at, 0, '')`, t)
		if err != nil {
			return err
		}
		if t.ID, err = result.LastInsertId(); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `DELETE FROM discovery WHERE id NOT IN (SELECT id FROM discovery ORDER BY id DESC
			LIMIT ?)`, keep)
		return err
	})
}

// List returns all that are kept, newest first.
func (s Discoveries) List(ctx context.Context) ([]Discovery, error) {
	var out []Discovery
	return out, s.DB.Read.SelectContext(ctx, &out, takingRows+`ORDER BY id DESC`)
}

// Get returns one of them.
func (s Discoveries) Get(ctx context.Context, id int64) (Discovery, error) {
	var out Discovery
	return out, sqlite.Row(s.DB.Read.GetContext(ctx, &out, takingRows+`WHERE id = ?`, id))
}

// AddFinds stores what was found, and how far it was looked. What was found there before is
// found again after the service was killed.
func (s Discoveries) AddFinds(ctx context.Context, taking int64, done int, finds []Find) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		for _, f := range finds {
			if err := chains.PutCertificates(ctx, tx, f.Served); err != nil {
				return err
			}
			f.Taking = taking
			if _, err := tx.NamedExecContext(ctx, `INSERT OR REPLACE INTO find (discovery_id, nth, address, port,
				protocol, server_name, chain, version, banner, failure)
				VALUES (:discovery_id, :nth, :address, :port, :protocol, :server_name, :chain, :version, :banner,
				:failure)`, f); err != nil {
				return err
			}
		}
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE discovery SET done = ? WHERE id = ?`, done, taking))
	})
}

// End notes that it ended, and why where it ended early. One that ended stays as it is.
func (s Discoveries) End(ctx context.Context, id int64, at sqlite.Moment, why string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE discovery SET ended_at = ?, why = ? WHERE id = ?
			AND ended_at = 0`,
			at, why, id))
	})
}

// Remove deletes one with what it found.
func (s Discoveries) Remove(ctx context.Context, id int64) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM discovery WHERE id = ?`, id))
	})
}

// Finds returns what was found, in the order of the targets.
func (s Discoveries) Finds(ctx context.Context, taking int64) ([]Find, error) {
	var out []Find
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT * FROM find WHERE discovery_id = ? ORDER BY nth`, taking)
}
