package store

import (
	"context"

	"freshseal/core/pki/cert"
	"freshseal/core/pki/request"
	"freshseal/core/replacement"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// Obsolete is a request that was replaced by a newer one.
type Obsolete struct {
	ID            int64  `db:"id"`
	ReplacementID int64  `db:"replacement_id"`
	ParcelID      *int64 `db:"parcel_id"`
	SPKI          string `db:"spki"`
	Request       []byte `db:"request"`
	Reason        string `db:"reason"`
	By            string `db:"by"`
	At            Moment `db:"at"`
}

// AskAgain takes a replacement back to its request, with another plan. What was
// asked for before is kept as obsolete; the key that was made for it, under
// secret, is forgotten. All of it happens or nothing.
func (s Requests) AskAgain(ctx context.Context, id int64, signer string, plan request.Plan, old Obsolete,
	secret string) (r Replacement, action replacement.Action, err error) {
	err = s.change(ctx, func(tx *sqlx.Tx) error {
		if err := sqlite.Row(tx.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id)); err != nil {
			return err
		}
		old.ReplacementID, old.ParcelID, old.SPKI, old.Request = id, r.ParcelID, r.SPKI, r.Request
		if r, action, err = s.advance(ctx, tx, id, replacement.Event{Kind: replacement.AskedAgain, Why: old.Reason},
			old.At); err != nil {
			return err
		}
		if old.SPKI != "" {
			if _, err := tx.NamedExecContext(ctx, obsoleteInsert, old); err != nil {
				return err
			}
		}
		if err := sqlite.RemoveSecrets(ctx, tx, []string{secret}); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET signer = ?, plan = ?, request = x'',
			spki = '',
			offered = '', parcel_id = NULL WHERE id = ?`, signer, JSON[request.Plan]{V: plan}, id))
	})
	return r, action, err
}

// TakeKey gives a replacement that waits for its signer another key, under secret, and the request with it; what it
// asked with is kept as obsolete. All of it happens or nothing. It returns ErrNotFound where it does not wait any more.
func (s Requests) TakeKey(ctx context.Context, id int64, old Obsolete, made request.Request, purpose string,
	sealed []byte) error {
	return s.change(ctx, func(tx *sqlx.Tx) error {
		var r Replacement
		if err := sqlite.Row(tx.GetContext(ctx, &r, replacementRows+`WHERE replacement.id = ?`, id)); err != nil {
			return err
		}
		if !r.Progress().AtSigner() {
			return ErrNotFound
		}
		old.ReplacementID, old.ParcelID, old.SPKI, old.Request = id, r.ParcelID, r.SPKI, r.Request
		if _, err := tx.NamedExecContext(ctx, obsoleteInsert, old); err != nil {
			return err
		}
		if err := sqlite.PutSecret(ctx, tx, purpose, sealed); err != nil {
			return err
		}
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET request = ?, spki = ?, offered = ''
			WHERE id = ?`,
			made.Raw, cert.Fingerprint(made.SPKI()), id))
	})
}

const obsoleteInsert = `INSERT INTO obsolete_request (replacement_id, parcel_id, spki, request, reason, by, at)
	VALUES (:replacement_id, :parcel_id, :spki, :request, :reason, :by, :at)`

// ObsoleteOf returns the obsolete requests of a replacement, oldest first.
func (s Requests) ObsoleteOf(ctx context.Context, replacementID int64) ([]Obsolete, error) {
	var out []Obsolete
	return out, s.Read.SelectContext(ctx, &out, `SELECT * FROM obsolete_request WHERE replacement_id = ? ORDER BY id`,
		replacementID)
}

// ObsoleteByKey finds the obsolete request with this public key.
func (s Requests) ObsoleteByKey(ctx context.Context, spki string) (Obsolete, error) {
	var out Obsolete
	return out, sqlite.Row(s.Read.GetContext(ctx, &out, `SELECT * FROM obsolete_request WHERE spki = ? ORDER BY id DESC
		LIMIT 1`, spki))
}
