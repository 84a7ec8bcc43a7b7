package issuance

import (
	"context"
	"database/sql"
	"errors"

	"freshseal/core/judgement/answer"
	"freshseal/core/pki/cert"
	"freshseal/store/chains"
	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// SignerIssuer is a certification authority with which a signer signs.
type SignerIssuer struct {
	Signer    string        `db:"signer"`
	SPKI      string        `db:"spki"`
	Subject   string        `db:"subject"`
	Days      int           `db:"days"`
	Confirmed bool          `db:"confirmed"` // by a person
	KnownBy   string        `db:"known_by"`
	KnownAt   sqlite.Moment `db:"known_at"`
}

// Issuers returns the issuers of all signers, by signer.
func (s Signers) Issuers(ctx context.Context) (map[string][]SignerIssuer, error) {
	var rows []SignerIssuer
	err := s.DB.Read.SelectContext(ctx, &rows, `SELECT * FROM signer_issuer ORDER BY signer, known_at, spki`)
	out := map[string][]SignerIssuer{}
	for _, row := range rows {
		out[row.Signer] = append(out[row.Signer], row)
	}
	return out, err
}

// MaxIssuers is the maximum number of issuers that are kept for one signer.
const MaxIssuers = 50

// PutIssuer stores an issuer of a signer, or confirms one that was learnt. It returns ErrTooMany beyond MaxIssuers.
func (s Signers) PutIssuer(ctx context.Context, i SignerIssuer) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		var others int
		if err := tx.GetContext(ctx, &others, `SELECT count(*) FROM signer_issuer WHERE signer = ? AND spki <> ?`,
			i.Signer, i.SPKI); err != nil {
			return err
		}
		if others >= MaxIssuers {
			return sqlite.ErrTooMany
		}
		return LearnIssuer(ctx, tx, i)
	})
}

// LearnIssuer stores an issuer; of one that is known, the shortest lifetime and whether it is confirmed.
func LearnIssuer(ctx context.Context, tx *sqlx.Tx, i SignerIssuer) error {
	_, err := tx.NamedExecContext(ctx, `INSERT INTO signer_issuer (signer, spki, subject, days, confirmed, known_by,
		known_at)
		VALUES (:signer, :spki, :subject, :days, :confirmed, :known_by, :known_at)
		ON CONFLICT (signer, spki) DO UPDATE SET confirmed = max(confirmed, excluded.confirmed),
			days = CASE WHEN excluded.days = 0 THEN days WHEN days = 0 THEN excluded.days
			ELSE min(days, excluded.days) END`, i)
	return err
}

// RemoveIssuer deletes an issuer of a signer.
func (s Signers) RemoveIssuer(ctx context.Context, signer, spki string) error {
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		return sqlite.Changed(tx.ExecContext(ctx, `DELETE FROM signer_issuer WHERE signer = ? AND spki = ?`, signer,
			spki))
	})
}

// Learnt is what an accepted answer tells about its signer; nil: nothing is remembered.
type Learnt struct {
	Signer    string
	Issuer    answer.Issuer
	Asked     []string // names
	Confirmed bool
	By        string
}

// Habits returns the habits of all signers of which any are known, by signer.
func (s Signers) Habits(ctx context.Context) (map[string]answer.Habits, error) {
	var rows []struct {
		Signer string                     `db:"signer"`
		Habits sqlite.JSON[answer.Habits] `db:"habits"`
	}
	err := s.DB.Read.SelectContext(ctx, &rows, `SELECT * FROM signer_habits`)
	out := map[string]answer.Habits{}
	for _, row := range rows {
		out[row.Signer] = row.Habits.V
	}
	return out, err
}

// LearnHabits adds what an answer shows to what is known of its signer.
func LearnHabits(ctx context.Context, tx *sqlx.Tx, l Learnt, leaf *cert.Certificate, accepted bool) error {
	var was sqlite.JSON[answer.Habits]
	if err := tx.GetContext(ctx, &was, `SELECT habits FROM signer_habits WHERE signer = ?`, l.Signer); err != nil &&
		!errors.Is(err, sql.ErrNoRows) {
		return err
	}
	was.V = was.V.Learn(leaf, l.Asked, accepted)
	_, err := tx.ExecContext(ctx, `INSERT INTO signer_habits (signer, habits) VALUES (?, ?)
		ON CONFLICT (signer) DO UPDATE SET habits = excluded.habits`, l.Signer, was)
	return err
}

// UnusedAnswer is a certificate that came for a replacement and was not used.
type UnusedAnswer struct {
	ReplacementID int64         `db:"replacement_id"`
	SHA256        string        `db:"sha256"`
	Why           string        `db:"why"`
	CameAt        sqlite.Moment `db:"came_at"`
	CameBy        string        `db:"came_by"`
	DER           []byte        `db:"der"`

	Learns *Learnt `db:"-"` // of its signer
}

// maxUnused is how many unused answers are kept of one replacement; the oldest go first.
const maxUnused = 20

// PutUnusedAnswer stores a certificate that came for a replacement and is not used; offered makes it the one that can
// be accepted.
func (s Signers) PutUnusedAnswer(ctx context.Context, leaf *cert.Certificate, a UnusedAnswer, offered bool) error {
	a.SHA256 = leaf.SHA256
	return s.DB.Change(ctx, func(tx *sqlx.Tx) error {
		if err := chains.PutCertificates(ctx, tx, []*cert.Certificate{leaf}); err != nil {
			return err
		}
		var came bool
		if err := tx.GetContext(ctx, &came, `SELECT EXISTS (SELECT 1 FROM unused_answer WHERE replacement_id = ?
			AND sha256 = ?)`, a.ReplacementID, a.SHA256); err != nil {
			return err
		}
		if a.Learns != nil && !came { // the same one again shows nothing new
			if err := LearnHabits(ctx, tx, *a.Learns, leaf, false); err != nil {
				return err
			}
		}
		if _, err := tx.NamedExecContext(ctx, `INSERT INTO unused_answer (replacement_id, sha256, why, came_at,
			came_by) VALUES (:replacement_id, :sha256, :why, :came_at, :came_by)
			ON CONFLICT (replacement_id, sha256) DO UPDATE SET why = excluded.why`, a); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM unused_answer WHERE replacement_id = ?1 AND sha256 NOT IN
			(SELECT sha256 FROM unused_answer WHERE replacement_id = ?1 ORDER BY came_at DESC LIMIT ?2)`,
			a.ReplacementID, maxUnused); err != nil {
			return err
		}
		if !offered {
			return nil
		}
		return sqlite.Changed(tx.ExecContext(ctx, `UPDATE replacement SET offered = ? WHERE id = ?`, leaf.SHA256,
			a.ReplacementID))
	})
}

// UnusedAnswers returns the certificates that came for a replacement and were not used, newest first.
func (s Signers) UnusedAnswers(ctx context.Context, id int64) ([]UnusedAnswer, error) {
	var out []UnusedAnswer
	return out, s.DB.Read.SelectContext(ctx, &out, `SELECT unused_answer.*, certificate.der FROM unused_answer
		JOIN certificate USING (sha256) WHERE replacement_id = ? ORDER BY came_at DESC, sha256`, id)
}
