package issuance

import (
	"context"

	"freshseal/store/sqlite"
)

// Proven is a domain that was validated for a signer.
type Proven struct {
	Signer string        `db:"signer"`
	Domain string        `db:"domain"`
	At     sqlite.Moment `db:"at"`
	By     string        `db:"by"`
}

// ProvenTo returns the domains that were validated for a signer.
func (s Signers) ProvenTo(ctx context.Context, signer string) (map[string]Proven, error) {
	var rows []Proven
	err := s.DB.Read.SelectContext(ctx, &rows, `SELECT * FROM proven WHERE signer = ?`, signer)
	out := map[string]Proven{}
	for _, row := range rows {
		out[row.Domain] = row
	}
	return out, err
}
