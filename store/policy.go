package store

import (
	"context"

	"freshseal/core/judgement/policy"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Policies are the rules of each scope.
type Policies struct{ DB *sqlite.DB }

// List returns the rules of every scope that has any.
func (s Policies) List(ctx context.Context) (map[string]policy.Rules, error) {
	var rows []struct {
		Scope string             `db:"scope"`
		Rules JSON[policy.Rules] `db:"rules"`
	}
	if err := s.DB.Read.SelectContext(ctx, &rows, `SELECT * FROM policy`); err != nil {
		return nil, err
	}
	out := map[string]policy.Rules{}
	for _, row := range rows {
		out[row.Scope] = row.Rules.V.Prepared()
	}
	return out, nil
}

// Set sets the rules of a scope of a known revision.
func (s Policies) Set(ctx context.Context, scope string, rules policy.Rules, known Revision) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Revise(ctx, tx, "policy/"+scope, known); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO policy (scope, rules) VALUES (?, ?)
			ON CONFLICT (scope) DO UPDATE SET rules = excluded.rules`, scope, JSON[policy.Rules]{V: rules})
		return err
	})
}
