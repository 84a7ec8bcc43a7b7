package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// LedgerEntry is one line of the ledger.
type LedgerEntry struct {
	ID    int64  `db:"id"`
	At    Moment `db:"at"`
	Who   string `db:"who"`
	What  string `db:"what"`
	About string `db:"about"`
	Hash  string `db:"hash"` // over the entry and the hash of the one before
}

// sum is the SHA-256 of the hash before and the entry as a JSON list, in
// hexadecimal.
func (e LedgerEntry) sum(before string) string {
	text, _ := json.Marshal([]any{before, e.ID, e.At.UnixMilli(), e.Who, e.What, e.About}) // plain fields cannot fail
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// Record adds an entry to the ledger.
func (s *Store) Record(ctx context.Context, e LedgerEntry) error {
	return s.change(ctx, func(tx *sqlx.Tx) error { return record(ctx, tx, e) })
}

func record(ctx context.Context, tx *sqlx.Tx, e LedgerEntry) error {
	var last LedgerEntry
	if err := tx.GetContext(ctx, &last, `SELECT * FROM ledger ORDER BY id DESC LIMIT 1`); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	e.ID = last.ID + 1
	e.Hash = e.sum(last.Hash)
	_, err := tx.NamedExecContext(ctx, `INSERT INTO ledger (id, at, who, what, about, hash) VALUES (:id, :at, :who, :what, :about, :hash)`, e)
	return err
}

// Ledger are entries before a known one (0: from the newest), newest first.
func (s *Store) Ledger(ctx context.Context, before int64, most int) ([]LedgerEntry, error) {
	var out []LedgerEntry
	return out, s.read.SelectContext(ctx, &out, `SELECT * FROM ledger WHERE ?1 = 0 OR id < ?1 ORDER BY id DESC LIMIT ?2`, before, most)
}

// VerifyLedger goes through the whole ledger and says how many entries it has;
// an error names the first that was changed, or is missing.
func (s *Store) VerifyLedger(ctx context.Context) (entries int, err error) {
	rows, err := s.read.QueryxContext(ctx, `SELECT * FROM ledger ORDER BY id`)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	before := ""
	for rows.Next() {
		var e LedgerEntry
		if err := rows.StructScan(&e); err != nil {
			return entries, err
		}
		if e.ID != int64(entries+1) {
			return entries, fmt.Errorf("entry %d is missing", entries+1)
		}
		if e.Hash != e.sum(before) {
			return entries, fmt.Errorf("entry %d of %s is not what was written", e.ID, e.At.Format("2006-01-02 15:04:05 MST"))
		}
		before = e.Hash
		entries++
	}
	return entries, rows.Err()
}
