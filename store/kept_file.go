package store

import (
	"context"

	"freshseal/store/sqlite"

	"github.com/jmoiron/sqlx"
)

// KeptFile is a file of a device that is kept off it.
type KeptFile struct {
	ID            int64  `db:"id"`
	ReplacementID int64  `db:"replacement_id"`
	Name          string `db:"name"`
	At            Moment `db:"at"`
	Size          int    `db:"size"` // bytes
	SHA256        string `db:"sha256"`
	Sealed        []byte `db:"sealed"`
}

// maxKeptFiles is how many files of one name are kept for a device; the oldest go first.
const maxKeptFiles = 5

// putKeptFile stores a file in place of an earlier one of the same replacement, and removes those of the device that
// are too old.
func putKeptFile(ctx context.Context, tx *sqlx.Tx, f KeptFile) error {
	if _, err := tx.NamedExecContext(ctx, `INSERT INTO kept_file (replacement_id, name, at, size, sha256, sealed)
		VALUES (:replacement_id, :name, :at, :size, :sha256, :sealed)
		ON CONFLICT (replacement_id, name) DO UPDATE
		SET at = excluded.at, size = excluded.size, sha256 = excluded.sha256, sealed = excluded.sealed`,
		f); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM kept_file WHERE id IN (SELECT kept_file.id FROM kept_file
		JOIN replacement ON replacement.id = replacement_id
		WHERE name = ?1 AND device_id = (SELECT device_id FROM replacement WHERE id = ?2)
		ORDER BY at DESC, kept_file.id DESC LIMIT -1 OFFSET ?3)`, f.Name, f.ReplacementID, maxKeptFiles)
	return err
}

// KeptFiles returns the files that are kept of a replacement's device, without their content, by name.
func (s Journal) KeptFiles(ctx context.Context, replacement int64) ([]KeptFile, error) {
	var out []KeptFile
	return out, s.Read.SelectContext(ctx, &out, `SELECT id, replacement_id, name, at, size, sha256, x'' AS sealed
		FROM kept_file WHERE replacement_id = ? ORDER BY name`, replacement)
}

// KeptFile returns one of them with its sealed content, or ErrNotFound.
func (s Journal) KeptFile(ctx context.Context, replacement int64, name string) (KeptFile, error) {
	var out KeptFile
	return out, sqlite.Row(s.Read.GetContext(ctx, &out, `SELECT * FROM kept_file WHERE replacement_id = ? AND name = ?`,
		replacement, name))
}
