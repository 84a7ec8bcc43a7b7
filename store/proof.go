package store

import (
	"context"

	"github.com/jmoiron/sqlx"
)

// Proven is a domain that was validated for a signer.
type Proven struct {
	Signer string `db:"signer"`
	Domain string `db:"domain"`
	At     Moment `db:"at"`
	By     string `db:"by"`
}

// ProvenTo returns the domains that were validated for a signer.
func (s Signers) ProvenTo(ctx context.Context, signer string) (map[string]Proven, error) {
	var rows []Proven
	err := s.read.SelectContext(ctx, &rows, `SELECT * FROM proven WHERE signer = ?`, signer)
	out := map[string]Proven{}
	for _, row := range rows {
		out[row.Domain] = row
	}
	return out, err
}

// EndProof ends a task that proved domains to a signer. A task that is not open
// any more is ErrNotFound.
func (s Signers) EndProof(ctx context.Context, step Step, signer string, domains []string, by string) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		if err := openTask(ctx, tx, step.ID); err != nil {
			return err
		}
		for _, domain := range domains {
			if _, err := tx.NamedExecContext(ctx, `INSERT INTO proven (signer, domain, at, by)
				VALUES (:signer, :domain, :at, :by)
				ON CONFLICT (signer, domain) DO UPDATE SET at = excluded.at, by = excluded.by`,
				Proven{signer, domain, step.EndedAt, by}); err != nil {
				return err
			}
		}
		return s.endStep(ctx, tx, step)
	})
}
